import hashlib, json, os, subprocess, sys, tempfile
out, games = sys.argv[1], []
for code, name in [("PH001.1", "Île <1>"), ("PH002.1", "Two Strands"), ("PH002.2", "Two Strands")]:
    with tempfile.TemporaryDirectory() as d:
        text = "; set\r\n[Disc]\r\ncode = %s\r\nname = %s\r\n" % (code, name)
        open(d + "/SETUP.INI", "wb").write(text.encode("latin-1"))
        iso = d + ".iso"
        subprocess.run(["genisoimage", "-quiet", "-V", "PHAL", "-o", iso, d], check=True)
    d = os.path.join(out, code)
    os.makedirs(d)
    data = open(iso, "rb").read()
    os.remove(iso)
    open(d + "/data.bin", "wb").write(data)
    sound = bytes([len(code)]) * 2352 * 4
    open(d + "/sound.bin", "wb").write(sound)
    open(d + "/my disc.cue", "w").write('FILE "data.bin" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n'
                                        'FILE "sound.bin" BINARY\n  TRACK 02 AUDIO\n    INDEX 01 00:00:00\n')
    games.append([code[:5], name, hashlib.sha1(data + sound).hexdigest()])
json.dump(games, sys.stdout)
