import hashlib, json, os, subprocess, sys
out, games = sys.argv[1], []
for n, (file, id, name, head, kib) in enumerate([("Alder (N) #0a1f", "0A1F", "Alder", 0, 4), 
        ("Birch #00ff", "00FF", "Birch", 1, 4),
        ("Cedar (W)", "", "Cedar", 0, 3), ("Dogwood (E) #1111", "1111", "Dogwood", 1, 3), ("Elm", "", "Elm", 0, 5),
        ("Fir Tree Avenue (N) #2222", "2222", "Fir Tree Avenue", 1, 1), ("Gorse #3333", "3333", "Gorse", 0, 1)]):
    g = bytes((i * 5 + n) % 256 for i in range(kib * 1024))
    f = os.path.join(out, file + ".crl")
    open(f, "wb").write(bytes(128 * head) + g)
    if n in (1, 4):
        subprocess.run(["7z", "a", "-bd", "-bso0", os.path.join(out, "pack%d.7z" % n), f], check=True)
        os.remove(f)
    games.append([id, name, hashlib.sha1(g).hexdigest()])
json.dump(games, sys.stdout)
