# Lists what stands in the list, where its file is there and begins as the console wants.
import hashlib, json, os, sys, zlib
stick, games = sys.argv[1], []
d = json.load(open(os.path.join(stick, "LIST.JSON"), encoding="utf-8"))
assert d["version"] == 2 and d["count"] == len(d["games"])
for g in d["games"]:
    b = open(os.path.join(stick, g["file"]), "rb").read()
    assert b[4:6] == b"LA" and b[7] == 0x4B and int.from_bytes(b[:4], "big") == len(b)
    assert g["sum"] == "%08X" % zlib.crc32(g["name"].encode()) and g["kib"] == len(b) // 1024
    assert g["file"] == g["file"].upper()
    letter, file = g["file"].split("/")
    assert len(file) == 6 + 4 and letter in ("S", "E", "0-9", "Z"), g["file"]
    games.append([str(int(file[:6])), g["name"], hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
