# Lists whole images and those whose parts are all there with their sums.
import hashlib, json, os, sys, xml.etree.ElementTree as e, zlib
stick, games, names = sys.argv[1], [], {}
for n in json.load(open(os.path.join(stick, "names.json"), encoding="utf-8")):
    names[n["id"]] = n["name"]
assert list(names) == sorted(names)
for d, _, files in os.walk(os.path.join(stick, "whole")):
    for f in files:
        b = open(os.path.join(d, f), "rb").read()
        assert os.path.basename(d) == ("slow" if b"flags=abx" in b else "fast" if b"flags=y" in b else "plain")
        games.append([f[:-4], names[f[:-4]], hashlib.sha1(b).hexdigest()])
for id in os.listdir(os.path.join(stick, "cut")):
    root, b = e.parse(os.path.join(stick, "cut", id, "parts.xml")).getroot(), b""
    assert root.get("of") == id
    for n, p in enumerate(root):
        part = open(os.path.join(stick, "cut", id, p.get("file")), "rb").read()
        assert p.get("n") == str(n + 1) and len(part) == int(p.get("bytes"))
        assert p.get("crc") == "%08x" % zlib.crc32(part)
        assert p.get("file") == "abcdefgh"[n] + ".cut"
        b += part
    games.append([id, names[id], hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
