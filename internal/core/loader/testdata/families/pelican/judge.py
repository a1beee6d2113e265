# Lists what the console would: the rows of its index whose folder is there, by the group of its name, and starts.
import csv, hashlib, json, os, re, sys
stick, games = sys.argv[1], []
rows = list(csv.reader(open(os.path.join(stick, "Games/index.csv"), newline="", encoding="utf-8")))
assert rows[0] == ["ID", "Name", "Folder", "Place"]
ids = [r[0] for r in rows[1:]]
assert ids == sorted(ids), "the console wants them in order"
for id, name, folder, place in rows[1:]:
    group, own = folder.split("/")[1:]
    first = own[0].upper()
    if first.isdigit():
        assert group == "0-9"
    else:
        assert len(group) == 3 and group[0] <= first <= group[2], (group, own)
    assert len(own) <= 30 and own.isascii()
    assert place == {"V": "N", "W": "W", "N": "E"}[id[2]]
    menu = open(os.path.join(stick, folder, "menu.txt")).read().splitlines()
    run = re.search(r"card:/bin/(\S+)\.run", menu[1]).group(1)
    assert run == id
    program = open(os.path.join(stick, folder, "bin", run + ".run"), "rb").read()
    games.append([id, name, hashlib.sha1(program).hexdigest()])
json.dump(games, sys.stdout)
