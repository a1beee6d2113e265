# Starts every game as the console would: a starter of its own, the folder that its number and name tell, and the discs
# that the list of its region names.
import hashlib, json, os, struct, sys
stick, games = sys.argv[1], []
starter = open(os.path.join(stick, "boot/starter.bin"), "rb").read()
last = ""
shelves = sorted(os.listdir(os.path.join(stick, "shelf")))
listed = {}
for f in os.listdir(os.path.join(stick, "list")):
    for g in json.load(open(os.path.join(stick, "list", f)))["games"]:
        assert g["id"] not in listed
        listed[g["id"]] = (f[:-5], g)
for n, shelf in enumerate(shelves, 1):
    at, title = os.path.join(stick, "shelf", shelf), shelf[3:]
    assert shelf == "%02d %s" % (n, title) and title > last, shelf
    last = title
    assert open(os.path.join(at, "shelf.txt")).read() == "on the shelf\n"
    discs = sorted(f for f in os.listdir(at) if f.endswith(".wg"))
    first = open(os.path.join(at, discs[0]), "rb").read()
    id, name = first[4:10].decode(), first[16:48].rstrip(b"\0").decode("shift-jis")
    go = bytearray(starter)
    go[16:64] = name.encode("utf-16be").ljust(48, b"\0")
    go[96:100] = struct.pack(">I", len(first))
    assert open(os.path.join(stick, "go", title + ".go"), "rb").read() == go, title
    start = id.encode().ljust(8, b".") + struct.pack("<H", n) + bytes(14)
    assert open(os.path.join(at, "start"), "rb").read() == start, title
    region, g = listed.pop(id)
    assert region == {"u": "north", "d": "south"}[chr(first[48])] and g["at"] == n and g["discs"] == discs, g
    if len(discs) > 1:
        lines = open(os.path.join(at, "discs.lst"), encoding="shift-jis").read().splitlines()
        assert lines == [name] + discs, lines
    else:
        assert not os.path.exists(os.path.join(at, "discs.lst"))
    for d in discs:
        games.append([id, name, hashlib.sha1(open(os.path.join(at, d), "rb").read()).hexdigest()])
assert not listed
json.dump(games, sys.stdout)
