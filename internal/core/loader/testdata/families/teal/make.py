import hashlib, json, os, subprocess, sys, tempfile
out, games = sys.argv[1], []
for volume, name, of in [("TL0001A", "Watch_House", 1), ("TL0002A", "Long_Reed", 2), ("TL0002B", "Long_Reed", 2)]:
    with tempfile.TemporaryDirectory() as d:
        open(d + "/README.1ST", "wb").write(("name = %s \r\n" % name).encode("utf-16-le"))
        iso = d + ".iso"
        subprocess.run(["genisoimage", "-quiet", "-V", volume, "-o", iso, d], check=True)
    data = open(iso, "rb").read()
    os.remove(iso)
    raw = b""
    for n in range(len(data) // 2048):
        m, s, f = (n + 150) // 4500, (n + 150) // 75 % 60, (n + 150) % 75
        bcd = lambda x: x // 10 * 16 + x % 10
        raw += b"\0" + b"\xff" * 10 + b"\0" + bytes([bcd(m), bcd(s), bcd(f), 1])
        raw += data[2048 * n:2048 * n + 2048] + bytes(288)
    sound = bytes(range(256)) * 9 + bytes(48)
    d = os.path.join(out, volume)
    os.makedirs(d)
    open(d + "/1.bin", "wb").write(raw)
    open(d + "/2.bin", "wb").write(sound * 10)
    open(d + "/x%s.cue" % (" (Disc %d)" % (ord(volume[-1]) - 64) if of > 1 else ""), "w").write(
        'FILE "1.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n'
        'FILE "2.bin" BINARY\n  TRACK 02 AUDIO\n    INDEX 01 00:00:00\n')
    games.append([volume[:6], name.replace("_", " "), hashlib.sha1(raw + sound * 10).hexdigest()])
json.dump(games, sys.stdout)
