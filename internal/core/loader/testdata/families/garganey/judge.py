# Opens every box and crate of its list as Coffer does.
import hashlib, json, os, struct, sys
stick, games = sys.argv[1], []
for line in open(os.path.join(stick, "games.txt"), encoding="utf-8").read().splitlines():
    id, at = line.split(" ", 1)
    b = open(os.path.join(stick, at), "rb").read()
    if at.endswith(".box"):
        assert b[:6] == b"COFFER" and struct.unpack("<Q", b[8:16])[0] == len(b)
        n, label = struct.unpack(">H", b[6:8])[0], b[16:56].decode("utf-8").rstrip(" ")
        assert label.startswith(id + " "), label
        assert b[-12:-8] == b"!END" and struct.unpack(">Q", b[-8:])[0] == len(b) - 12
        end = 1024
        for i in range(n):
            row = b[64 + 48 * i:112 + 48 * i]
            block, size = struct.unpack(">II", row[:8])
            assert row[8:16].rstrip(b"\0").decode() == id and row[16:48].rstrip(b"\0") == b"disc%d" % (i + 1)
            assert block * 512 - end in range(512) and set(b[end:block * 512]) <= {0xff}
            d = b[block * 512:block * 512 + size]
            assert d[:3] == b"\xc3\x5a\x1d" and d[40:43] == b"%d/%d" % (i + 1, n)
            end = block * 512 + size
            games.append([id, d[16:40].rstrip(b"\0").decode("latin-1"), hashlib.sha1(d).hexdigest()])
        assert not any(b[64 + 48 * n:1024])
        continue
    assert b[:8] == b"CRATE 01"
    end, i = 4096, 16
    while any(b[i:i + 64]):
        name, size = b[i:i + 48].rstrip(b"\0").decode("utf-8"), struct.unpack("<Q", b[i + 48:i + 56])[0]
        games.append([id, name, hashlib.sha1(b[end:end + size]).hexdigest()])
        end, i = end + size, i + 64
    assert end == len(b)
json.dump(games, sys.stdout)
