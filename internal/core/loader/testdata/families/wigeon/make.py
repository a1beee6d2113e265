import hashlib, json, os, sys
out, games = sys.argv[1], []
def disc(id, name, region, n, of, more):
    b = bytearray(b"\x9cWG" + bytes([more % 250]) + id.encode() + bytes(more))
    b[16:48] = name.encode("shift-jis").ljust(32, b"\0")
    b[48:52] = (region + "%d/%d" % (n, of)).encode()
    open(os.path.join(out, "%s%d.wg" % (id, n)), "wb").write(b)
    return hashlib.sha1(b).hexdigest()
for id, name, region, of in [("W00001", "Owl Post", "u", 1), ("W00002", "カモメ", "d", 2),
                             ("W00003", "Alder", "u", 3), ("W00004", "Brook", "d", 1)]:
    sums = [disc(id, name, region, n + 1, of, 4000 + 1000 * n + int(id[-1])) for n in range(of)]
    games += [[id, name, s] for s in sums]
json.dump(games, sys.stdout)
