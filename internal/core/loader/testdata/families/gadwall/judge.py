# Lists what stands in its list and has a program to start; settings give the name.
import configparser, hashlib, json, os, sys
stick, games = sys.argv[1], []
lines = open(os.path.join(stick, "GAMES.TXT"), "rb").read().decode("shift-jis").split("\r\n")
assert lines[0] == "games=%d" % (len(lines) - 2)
for i, line in enumerate(lines[1:-1]):
    at, rest = line.split("=", 1)
    assert int(at, 16) == i + 1
    folder, title = rest.split(":", 1)
    assert folder == folder.upper() and not os.path.exists(os.path.join(stick, folder, "PAPERS"))
    assert os.path.exists(os.path.join(stick, folder, "DATA", "LEVEL ONE.DAT"))
    run = open(os.path.join(stick, folder, "START.RUN"), "rb").read()
    id = run[-6:].decode()
    place, base = folder.split("/")[1:]
    assert base == id.replace("G", "9") and place in ("N", "W", "X")
    c = configparser.RawConfigParser()
    c.read(os.path.join(stick, "GAMES", id + ".INI"), encoding="utf-8")
    assert c["game"]["speed"] == "1"
    games.append([id, c["game"]["name"], hashlib.sha1(run).hexdigest()])
json.dump(games, sys.stdout)
