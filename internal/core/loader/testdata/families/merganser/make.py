import hashlib, json, os, sys
out, games = sys.argv[1], []
for id, name, flags, kib in [("A-1", "Lock \"One\"", "abx", 20), ("A-22", "ひかり", "y", 30), 
        ("B-3", "No Flags", "", 10), ("B-4", "A Long One", "x", 170)]:
    h = ("junk" * 10 + "MERGANSER;v2;id=%s;name=%s;flags=%s;" % (id, name, flags)).encode()
    b = h + bytes((i * 13) % 256 for i in range(kib * 1024 - len(h)))
    open(os.path.join(out, "image of " + id + ".mgn"), "wb").write(b)
    games.append([id, name, hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
