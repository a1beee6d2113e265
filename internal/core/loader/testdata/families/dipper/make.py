import hashlib, json, os, struct, sys, zlib
out, games = sys.argv[1], []
for n, (id, name, disc) in enumerate([(7, "ソース表", 0), (1500, "Reed", 0), (1600, "Two Becks", 1),
                                      (1600, "Two Becks", 2)]):
    h = struct.pack(">H", id) + name.encode("shift-jis").ljust(40, b"\0") + bytes([1 + n // 1 % 2 * (n < 2), disc])
    x = 0
    for c in h:
        x ^= c
    b = h + bytes([x]) + bytes((i * 3 + n) % 256 for i in range(5000 + n))
    b += b"DIPR" + bytes(8) + struct.pack("<I", zlib.crc32(b[:1024]))
    open(os.path.join(out, "file %d.%s" % (n, "dip" if n else "img")), "wb").write(b)
    games.append(["%05d" % id, name, hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
