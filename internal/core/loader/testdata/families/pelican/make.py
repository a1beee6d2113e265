import hashlib, json, os, sys
out, games = sys.argv[1], []
for place, (id, name) in {"one": ("PLV-0192", "Salt, Ledger"), "two": ("PLW-0007", "Quill \"Work\""),
                          "three": ("PLN-0400", "ソース"), "4": ("PLV-0193", "42 Lanterns")}.items():
    d = os.path.join(out, place)
    os.makedirs(os.path.join(d, "bin"))
    open(os.path.join(d, "menu.txt"), "w").write("# made by hand\r\nexec \"card:/bin/%s.run\" 3\r\n" % id)
    open(os.path.join(d, "about.ini"), "wb").write(("; about\n[game]\ntitle = %s\n" % name).encode("shift-jis"))
    run = (id * 999).encode()
    open(os.path.join(d, "bin", id + ".run"), "wb").write(run)
    games.append([id, name, hashlib.sha1(run).hexdigest()])
json.dump(games, sys.stdout)
