import hashlib, json, os, sys, zipfile
out, games = sys.argv[1], []
for id, titles, where, tool in [("owl", ["Owl", "Owl & Mouse"], 1, False), ("quill", ["Quill <Work>"], 2, False),
                                ("spade", ["Spade"], 2, True), ("none", ["No Place"], 9, False)]:
    f = os.path.join(out, "pack of %s.zip" % id)
    run = (id * 500).encode()
    with zipfile.ZipFile(f, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("eider.json", json.dumps({"app": {"id": id + ".1", "titles": titles, "where": where, "tool": tool}}))
        z.writestr("run", run)
    if where != 9:
        games.append([id, titles[-1], hashlib.sha1(run).hexdigest()])
json.dump(games, sys.stdout)
