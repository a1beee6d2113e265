# Lists the apps of its list: games in their packages, tools unpacked.
import hashlib, io, json, os, sys, xml.etree.ElementTree as e, zipfile
stick, games, packs = sys.argv[1], [], {}
for d, _, files in os.walk(os.path.join(stick, "apps")):
    for f in files:
        z = zipfile.ZipFile(os.path.join(d, f))
        a = json.loads(z.read("eider.json"))["app"]
        assert os.path.basename(d) == {1: "north", 2: "east"}[a["where"]] and f == f.lower() and " " not in f
        packs[a["id"].split(".")[0]] = z.read("run")
root = e.fromstring(open(os.path.join(stick, "apps.xml"), "rb").read().decode("utf-16-be"))
assert int(root.get("n")) == len(root)
for app in root:
    id = app.get("id")
    run = packs[id] if app.get("kind") == "game" else open(os.path.join(stick, "tools", id, "run"), "rb").read()
    games.append([id, app.text, hashlib.sha1(run).hexdigest()])
json.dump(games, sys.stdout)
