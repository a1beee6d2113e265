# Lists the sections of its list whose file is there; discs of one game must be in a set.
import configparser, hashlib, json, os, sys
stick, games = sys.argv[1], []
c = configparser.RawConfigParser()
c.read(os.path.join(stick, "discs/all.ini"), encoding="utf-8")
for file in c.sections():
    sheet = open(os.path.join(stick, "discs", file)).read()
    assert sheet.startswith('FILE "%s.raw" BINARY' % file[:-4])
    assert sheet.count("FILE") == 1 and sheet.count("TRACK") == 2
    b = open(os.path.join(stick, "discs", file[:-4] + ".raw"), "rb").read()
    assert len(b) % 2352 == 0
    if " of " in file:
        base = file[:file.index(" [")]
        n = int(file[file.index("[") + 1])
        lines = open(os.path.join(stick, "discs", base + ".set"), newline="").read().split("\r\n")
        assert lines[n - 1] == "%s=%s" % ("ab"[n - 1], file), lines
    else:
        assert not os.path.exists(os.path.join(stick, "discs", file[:-4] + ".set"))
    games.append([c[file]["id"], c[file]["name"], hashlib.sha1(b).hexdigest()])
json.dump(games, sys.stdout)
