# Lists the records of the menu whose disc is there with the length that the menu has.
import hashlib, json, os, struct, sys, zlib
stick, games = sys.argv[1], []
b = open(os.path.join(stick, "MENU.DAT"), "rb").read()
magic, n, _, crc = struct.unpack(">8sHHI", b[:16])
assert magic == b"MLDMENU2" and len(b) == 16 + 80 * n and crc == zlib.crc32(b[16:])
for i in range(n):
    id, at, kib = struct.unpack("<8sII", b[16 + 80 * i:32 + 80 * i])
    name = b[32 + 80 * i:96 + 80 * i].decode("utf-16-le").split("\0")[0]
    id = id.decode()
    assert at == i
    d = os.path.join(stick, id[:3], id[3:])
    files = os.listdir(d)
    assert len(files) == 1 and files[0] in ("DISCA.DSC", "DISCB.DSC")
    f = os.path.join(d, files[0])
    assert (os.path.getsize(f) + 1023) // 1024 == kib
    games.append([id, name, hashlib.sha1(open(f, "rb").read()).hexdigest()])
json.dump(games, sys.stdout)
