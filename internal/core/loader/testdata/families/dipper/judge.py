# Lists the records of its index whose disc is there.
import hashlib, json, os, struct, sys
stick, games = sys.argv[1], []
b = open(os.path.join(stick, "names.idx"), "rb").read()
assert len(b) % 48 == 0
last = 0
for i in range(0, len(b), 48):
    id, = struct.unpack(">I", b[i:i + 4])
    disc, = struct.unpack("<I", b[i + 4:i + 8])
    name = b[i + 8:i + 48].rstrip(b" ").decode("shift-jis")
    assert id >= last
    last = id
    d = os.path.join(stick, "old" if id < 1000 else "new", "%05d" % id)
    f = [x for x in os.listdir(d) if x.split(".")[0] == str(disc)]
    assert len(f) == 1 and f[0] == f[0].lower()
    if len(os.listdir(d)) > 1:
        lines = open(os.path.join(stick, "sets", "%05d.lst" % id)).read().splitlines()
        assert lines[disc - 1] == "disc %d: %s" % (disc, f[0]), lines
    games.append(["%05d" % id, name, hashlib.sha1(open(os.path.join(d, f[0]), "rb").read()).hexdigest()])
json.dump(games, sys.stdout)
