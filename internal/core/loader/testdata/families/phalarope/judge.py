# Lists the discs of its index whose sheet names its tracks in order.
import hashlib, json, os, re, sys, xml.etree.ElementTree as e
stick, games = sys.argv[1], []
for d in e.parse(os.path.join(stick, "index.xml")).getroot():
    at = d.get("at")
    files = re.findall(r'FILE "([^"]+)"', open(os.path.join(stick, at, "disc.cue")).read())
    assert files == ["t00.bin", "t01.bin"]
    b = b"".join(open(os.path.join(stick, at, f), "rb").read() for f in files)
    id = d.find("i").text
    assert at.split("/")[0] == id.lower()
    games.append([id, d.find("n").text, hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
