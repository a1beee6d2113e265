import hashlib, json, os, sys
out, games = sys.argv[1], []
for n, (place, id, name, where, old) in enumerate([("a", "G00001", "Reed & Rush", "north", 0), 
        ("b", "G00002", "Été", "west", 0),
                                                   ("c", "G00003", "Old Mill", None, 1)]):
    d = os.path.join(out, "f", place)
    os.makedirs(d + "/papers")
    os.makedirs(d + "/data")
    run = (b"GW-OLD" if old else b"MZGW" + bytes([n, n, 1])) + b"run" * 500 + id.encode()
    open(d + ("/Game.old" if old else "/My Game.exe"), "wb").write(run)
    open(d + "/data/level one.dat", "wb").write(b"x" * 100 * n)
    if old:
        open(d + "/papers/title.txt", "w").write("\n\nTitle: %s\n" % name)
    else:
        info = json.dumps([{"title": name, "for": where}], ensure_ascii=False)
        open(d + "/papers/info.json", "wb").write(info.encode("latin-1"))
    games.append([id, name, hashlib.sha1(run).hexdigest()])
json.dump(games, sys.stdout)
