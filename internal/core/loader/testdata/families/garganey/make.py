import hashlib, json, os, sys
out, games = sys.argv[1], []
def disc(id, name, n, of, size):
    b = bytearray(b"\xc3\x5a\x1d\x01" + id.encode() + bytes((i * 31 + n) % 253 for i in range(size)))
    b[16:40] = name.encode("latin-1").ljust(24, b"\0")
    b[40:43] = b"%d/%d" % (n, of)
    open(os.path.join(out, "%s-%d.gd" % (id, n)), "wb").write(b)
    return bytes(b)
for id, name, of in [("G0001", "Été", 2), ("G0002", "Mill Pond", 1), ("G0003", "Long Way Home", 3)]:
    for n in range(of):
        games.append([id, name, hashlib.sha1(disc(id, name, n + 1, of, 3000 + 512 * n * n + n)).hexdigest()])
for id, name in [("G0101", "Folded Paper"), ("G0102", "Loose Leaves")]:
    d = os.path.join(out, name)
    os.makedirs(os.path.join(d, "data", "deep"))
    files = {"ABOUT.TXT": ("garganey %s\n%s\n" % (id, name)).encode(), "data/a.dat": id.encode() * 700,
             "data/deep/ü.dat": b"\1" * 5, "data/empty": b""}
    for f, b in files.items():
        open(os.path.join(d, f), "wb").write(b)
    open(os.path.join(d, "notes.tmp"), "w").write("no")
    for f in sorted(files):
        games.append([id, f, hashlib.sha1(files[f]).hexdigest()])
json.dump(games, sys.stdout)
