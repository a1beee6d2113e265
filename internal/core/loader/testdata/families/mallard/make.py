import hashlib, json, os, subprocess, sys, tempfile
out, games = sys.argv[1], []
for n, (code, name, tag, film) in enumerate([("ABC00017/1/1", "Copper & Tide", "en", 0), 
        ("ABC00018/1/2", "Two Sails", "en", 0),
                                             ("ABC00019/2/2", "Two Sails", "en", 0), 
        ("XYZ10000/1/1", "ひかり", "other", 0),
                                             ("XYZ10001/1/1", "A Film", "en", 1)]):
    with tempfile.TemporaryDirectory() as d:
        os.makedirs(d + "/ABOUT")
        open(d + "/ABOUT/DISC%d.XML" % n, "w", encoding="utf-8").write(
            '<?xml version="1.0"?>\n<disc code="%s"><names><%s>%s</%s></names></disc>' %
            (code, tag, name.replace("&", "&amp;"), tag))
        os.makedirs(d + "/FILM" if film else d + "/DATA")
        open(d + ("/FILM/A.MOV" if film else "/DATA/A.BIN"), "wb").write(bytes(1000 * n + 50000))
        f = os.path.join(out, "rip %d.iso" % n)
        subprocess.run(["genisoimage", "-quiet", "-V", "MLD%d" % n, "-o", f, d], check=True)
    if not film:
        games.append([code.split("/")[0], name, hashlib.sha1(open(f, "rb").read()).hexdigest()])
json.dump(games, sys.stdout)
