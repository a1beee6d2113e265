# Lists tiny games by a sum of their ID in their names, large ones by its list; a folder shows three games.
import hashlib, json, os, sys
stick, games = sys.argv[1], []
sha = lambda *p: hashlib.sha1(open(os.path.join(stick, *p), "rb").read()).hexdigest()
def arc(b):
    c = 0
    for x in b:
        c ^= x
        for _ in range(8):
            c = c >> 1 ^ 0xA001 if c & 1 else c >> 1
    return "%04x" % c
ids = {arc(i.encode()): (i, n) for i, n in [("2222", "Fir Tree Avenue"), ("3333", "Gorse")]}
for f in os.listdir(os.path.join(stick, "T")):
    short, s = f[:-4].rsplit("_", 1)
    id, name = ids[s]
    assert len(short) <= 8 and name.startswith(short)
    games.append([id, name, sha("T", f)])
text = open(os.path.join(stick, "L/list.txt"), newline="").read().split("\r\n")
assert int(text[0]) == len(text) - 2
for i, line in enumerate(text[1:-1]):
    row, name = line.split("\t")
    at, id, region, path = row.split(" ", 3)
    assert int(at) == i + 1 and region in "NEW?"
    folder = os.path.dirname(os.path.join(stick, path))
    assert len([f for f in os.listdir(folder) if f.endswith(".crl")]) <= 3
    games.append([id.strip("-"), name, sha(path)])
json.dump(games, sys.stdout)
