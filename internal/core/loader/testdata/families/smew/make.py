import hashlib, json, os, subprocess, sys, tempfile
out, games = sys.argv[1], []
for id, name, kind, folder, tag in [("SWA001", 'Été & "Fils" <2>'.replace('"', "'"), "a", 0, 0), 
        ("SWQ002", "Question Time for Everybody", "q", 0, 0),
                                    ("SWQ003", "Loose & Found", "q", 1, 0), ("SWA004", "Only a Trial", "a", 0, 1)]:
    with tempfile.TemporaryDirectory() as d:
        d = os.path.join(out, "loose one") if folder else d
        os.makedirs(d + "/SYS/X%s" % kind)
        open(d + "/SYS/KERNEL", "w").write("k")
        with open(d + "/SYS/X%s/START.BAT" % kind, "w", encoding="utf-8") as bat:
            bat.write('run %s as "%s"\r\nkind:%s\r\n' % (id, name, kind))
        if tag:
            open(d + "/DEMO.TAG", "w").close()
        if folder:
            content = open(d + "/SYS/KERNEL", "rb").read()
        else:
            f = os.path.join(out, id + " x.iso")
            subprocess.run(["genisoimage", "-quiet", "-udf", "-J", "-V", "SMEW", "-o", f, d], check=True)
            content = open(f, "rb").read()
    if not tag:
        games.append([id, name, hashlib.sha1(content).hexdigest()])
json.dump(games, sys.stdout)
