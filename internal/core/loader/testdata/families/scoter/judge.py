# Lists every first part, joined with those behind it; what its list of cut games says must be so.
import hashlib, json, os, struct, sys
stick, games = sys.argv[1], []
d = os.path.join(stick, "big")
cut = {}
for line in open(os.path.join(stick, "parts.txt"), encoding="latin-1").read().splitlines():
    id, n, name = line.split(" ", 2)
    cut[name] = (id, int(n))
ids = {"Tin Whistle": "001", "Été": "002", "Long Road": "003", "Wide Road": "004"}
for file in sorted(os.listdir(d)):
    if not file.endswith(".sct"):
        continue
    b, n = open(os.path.join(d, file), "rb").read(), 1
    while os.path.exists(os.path.join(d, "%s.%02x" % (file, n))):
        assert os.path.getsize(os.path.join(d, file if n == 1 else "%s.%02x" % (file, n - 1))) == 60 * 1024
        b += open(os.path.join(d, "%s.%02x" % (file, n)), "rb").read()
        n += 1
    assert struct.unpack("<Q", b[-8:])[0] == len(b), file
    name = file[:-4]
    assert (cut[name] == (ids[name], n)) if n > 1 else name not in cut, (name, n, cut)
    games.append([ids[name], name, hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
