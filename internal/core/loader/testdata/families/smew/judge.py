# Starts what its launchers name, and lists unpacked games by their folder; quizzes need a page about them.
import hashlib, json, os, sys, xml.etree.ElementTree as e
stick, games = sys.argv[1], []
for f in os.listdir(stick + "/start"):
    s = json.load(open(os.path.join(stick, "start", f), encoding="utf-8"))
    base = os.path.basename(s["image"])[:-4]
    assert len(base) <= 16 and base.isascii(), base
    quiz = s["image"].startswith("iso/quiz/")
    assert quiz or s["image"].startswith("iso/arcade/")
    about = os.path.join(stick, "about", base + ".xml")
    assert os.path.exists(about) == quiz
    if quiz:
        root = e.parse(about).getroot()
        assert root.get("id") == f[:-5] and root.find("name").text == s["name"]
    games.append([f[:-5], s["name"], hashlib.sha1(open(os.path.join(stick, s["image"]), "rb").read()).hexdigest()])
for d in os.listdir(stick + "/raw"):
    root = e.parse(os.path.join(stick, "about", d + ".xml")).getroot()
    games.append([root.get("id"), root.find("name").text,
                  hashlib.sha1(open(os.path.join(stick, "raw", d, "SYS/KERNEL"), "rb").read()).hexdigest()])
json.dump(games, sys.stdout)
