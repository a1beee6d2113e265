# Makes up a family of games and a loader for them, which nobody has described: how the games say what they are, and the
# rules of the loader, as docs/profile-format.md has them. Writes the games of two collections and what they are.
import json, os, random, string, sys

seed, out = int(sys.argv[1]), sys.argv[2]
r = random.Random(seed)
some = lambda n: r.randrange(n) == 0
ext = "." + "".join(r.choice("bcdfghklmnprstvwxz") for _ in range(3))
prefix = "".join(r.choice(string.ascii_uppercase) for _ in range(r.choice([2, 3, 4])))
dash, digits = r.choice(["-", "_", ""]), r.choice([4, 5])
regions, kinds = ["North", "East", "West"], ["full", "short", "demo"][:r.choice([2, 3])]
form = r.choice(["image", "image", "folder"])

WORDS = """Alder Brook Copper Dune Ember Fallow Gorse Harbour Islet Juniper Kestrel Lantern Meadow Nettle Orchard Pebble
Quarry Ridge Saffron Thistle Umber Vale Willow Yarrow Zephyr Tide Lane Sails Post Mill Gate Lock Weir Sluice Barge Oar
Mast Anchor Rudder Keel Ferry Pier Jetty Buoy Beacon Signal Rope Knot Sextant Compass Chart""".split()


def collection(shows):
    names, games = set(), []
    while len(names) < 12:
        n = [r.choice(WORDS) for _ in range(r.choice([1, 2, 2, 3]))]
        if some(6):
            n.append(str(r.randrange(2, 99)))
        if len(" ".join(n)) > 3:
            names.add(" ".join(n))
    numbers = r.sample(range(10 ** digits - 1), 30)
    order = r.sample(sorted(names), 12)
    for n, name in enumerate(order):
        if shows:  # all that the rules can ask for is there twice at least
            many, kind, region, large = 2 if n < 6 else 1, n // 2 % len(kinds), (n + 1) // 2 % 3, n % 2
        else:
            many, kind, region, large = 2 if some(5) else 1, r.randrange(len(kinds)), r.randrange(3), r.randrange(2)
        games.append({"name": name, "region": regions[region], "kind": kinds[kind], "of": many,
                      "ids": [prefix + dash + str(numbers.pop()).zfill(digits) for _ in range(many)],
                      "sizes": [r.randrange(50000, 80000) if large else r.randrange(4000, 30000) for _ in range(many)]})
    return games


# How a game says what it is.
text_as = r.choice(["ascii", "utf-16le", "utf-16be"]) if some(2) else "ascii"
at_end = some(4)
magic = bytes(r.randrange(1, 256) for _ in range(4))
name_length, spot = r.choice([48, 64, 96]), {}
at = r.choice([4, 8, 16, 32])
for field, n in [("id", 16), ("name", name_length), ("disc", 4), ("region", 4), ("kind", 4)]:
    spot[field] = at
    at += n * (2 if field == "name" and text_as != "ascii" else 1) + r.choice([0, 4, 8])
header_length = at + 16
fill = 32 if text_as == "ascii" and some(3) else 0
syntax = r.choice(["key=value", "ini", "json", "xml", "lines"])
inner = r.choice(["GAME.INF", "meta/title.txt", "about.dat"])
keys = {"id": r.choice(["ID", "code", "serial"]), "name": r.choice(["NAME", "title"]),
        "disc": "disc", "region": "area", "kind": "sort"}


def header(g, d):
    b = bytearray(header_length)
    b[0:4] = magic

    def put(field, value, encoding="ascii", length=16):
        x = value.encode(encoding)[:length]
        b[spot[field]:spot[field] + len(x)] = x
    if fill:
        b[spot["name"]:spot["name"] + name_length] = bytes([fill]) * name_length
    put("id", g["ids"][d])
    put("name", g["name"], text_as, name_length * 2)
    put("disc", "%d/%d" % (d + 1, g["of"]))
    put("region", g["region"][0])
    put("kind", g["kind"][0])
    return bytes(b)


def about(g, d):
    v = {"id": g["ids"][d], "name": g["name"], "disc": "%d/%d" % (d + 1, g["of"]), "region": g["region"],
         "kind": g["kind"]}
    if syntax == "json":
        return json.dumps({"game": {keys[k]: v[k] for k in v}})
    if syntax == "xml":
        return "<game>\n" + "".join("  <%s>%s</%s>\n" % (keys[k], v[k], keys[k]) for k in v) + "</game>\n"
    if syntax == "lines":
        return "start /bin/%s.run 3\n%s\n%s\n%s\n%s\n" % tuple(v[k] for k in v)
    return ("[game]\n" if syntax == "ini" else "") + "".join("%s=%s\n" % (keys[k], v[k]) for k in v)


def body(n):
    return bytes(r.randrange(256) for _ in range(64)) * (n // 64 + 1)


def write(games, folder):
    facts = []
    os.makedirs(folder)
    for n, g in enumerate(games):
        discs = []
        for d in range(g["of"]):
            at = os.path.join(folder, "%s%d" % (chr(97 + n), d + 1))
            data = body(g["sizes"][d])[:g["sizes"][d]]
            if form == "folder":
                os.makedirs(os.path.join(at, os.path.dirname(inner)))
                open(os.path.join(at, inner), "w").write(about(g, d))
                open(os.path.join(at, "data.img"), "wb").write(data)
            else:
                at += ext
                h = header(g, d)
                open(at, "wb").write(data + h if at_end else h + data)
            discs.append({"file": os.path.abspath(at), "id": g["ids"][d], "kind": g["kind"]})
        facts.append({"id": g["ids"][0], "name": g["name"], "region": g["region"], "discs": discs, "form": form,
                      "ext": "" if form == "folder" else ext})
    return facts


# The loader.
o = ['format = 1', 'name = "any"', 'shown = "Any"', 'list-order = ["title"]', '[[attachment]]', 'name = "stick"',
     'via = "usb"', 'filesystems = ["exfat"]']
say = o.append
end = "" if form == "folder" else ext
when = r.choice(["kind is full", "region is North", "size over 40000"])
divided = some(4)


def accept(only):
    say('[[accept]]\nforms = ["%s"]' % form)
    if only:
        say('when = "%s"' % when)
    inside = r.choice(["games", "A", "play/own"]) + (r.choice(["", "2"]) if only else "") + r.choice(
        ["/", "/", "/{kind}/", "/{region|upper}/", "/{title|letter}/", "/{title|group:5}/", "/{id|sub:0:%d}/" % (
            len(prefix) + len(dash) + 1), "/{if discs over 1}many/{end}", "/{kind|table:full=F:short=S:demo=D}/"])
    name = r.choice(["{title}", "{title}", "{id}", "{id} - {title}", "{title} [{id}]", "{id|lower}_{title}",
                     "{title|lower|replace: :_}", "{title}.{id}"])
    number = r.choice(["{number|pad:3} ", "{number|pad:2}-"]) if some(4) else ""
    disc = r.choice([" (Disc {disc})", "-{disc|letters}", " [{disc} of {discs}]", "_d{disc}"])
    disc = "{if disc}" + disc + "{end}"
    if form == "folder" or some(2):
        path = number + name + disc + end
    else:
        path = r.choice([number + name + "/" + name + disc + end, number + name + disc + "/game" + end])
    say("path = '%s'" % (inside + path))
    if form == "image" and some(3):
        say("[accept.too-large]\ndo = \"split\"\nover = 40000\npart-size = %d\nparts = 'P/%s{title}%s%s'" % (
            r.choice([16384, 20000]), number, disc, r.choice([".{index|pad:2}", "/{index}.prt", ".{index|pad:2}of{parts}"])))


if divided:
    accept(True)
accept(False)
if some(2):
    say('[[companion]]\nis = "launcher"')
    if some(3):
        say('when = "%s"' % r.choice(["kind is full", "region is North"]))
    say("path = '%s'" % r.choice(["L/{title}.go", "run/{id}.txt", "{folder}/{base}.cfg"]))
    if some(3):
        say('length = 64\n[[companion.bytes]]\noffset = %d\nlength = 16\nvalue = "{id}"\nencoding = "ascii"\n'
            '[[companion.bytes]]\noffset = 40\nlength = 4\nvalue = "{size}"\nencoding = "%s"' % (
                r.randrange(20), r.choice(["number-le", "number-be"])))
    else:
        say("text = '''\n%s'''" % r.choice(["start {folder}/{file}\n", "[game]\nname={name}\nfile={file}\nspeed=2\n",
                                            "{id};{name};{size}\n"]))
if some(3):
    say("[[companion]]\nis = \"playlist\"\nwhen = \"discs over 1\"\npath = 'sets/{title}.lst'\ntext = '''\n%s'''" %
        r.choice(["{each}{folder}/{file}\n{end}", "# {title}\n{each}{index}={file}\n{end}"]))
for n in range(r.choice([0, 1, 1, 2])):
    say("[[list]]\npath = '%s%d%s'\norder = [\"%s\"]" % (r.choice(["all", "db/list", "{kind}"]), n, r.choice(
        [".lst", ".db"]), r.choice(["title", "id"])))
    say(r.choice([
        'line = "{index|pad:3} {id};{title};{file}\\n"',
        'header = "{discs}\\n"\nline = "{folder}/{file}|{title|upper}\\n"',
        'header = "{discs}\\r\\n"\nline = "{file}|{name}|{kind}\\r\\n"\nencoding = "utf-16le"',
        'make = "json"\nkey = "/file"\nheader = "[\\n"\nbetween = ",\\n"\nfooter = "\\n]\\n"\n'
        "line = '{{\"file\": \"{file}\", \"name\": \"{name}\", \"kib\": {size|unit:KiB}}}'",
        'make = "xml"\nkey = "game/file"\nheader = "<list>\\n"\nfooter = "</list>\\n"\n'
        'line = "  <game><file>{file}</file><name>{name}</name></game>\\n"',
        'per = "title"\nline = "{title}:{each} {file}{end}\\n"',
        'record = 160\nheader-length = 4\n[[list.header-field]]\noffset = 0\nlength = 2\nvalue = "{discs}"\n'
        'encoding = "number-be"\n[[list.field]]\noffset = 0\nlength = 96\nvalue = "{file}"\nencoding = "utf-8"\n'
        '[[list.field]]\noffset = 96\nlength = 60\nvalue = "{title}"\nencoding = "ascii"\nfill = 32\n'
        '[[list.field]]\noffset = 156\nlength = 4\nvalue = "{size}"\nencoding = "number-le"']))

one, two = collection(True), collection(False)
json.dump({"one": write(one, os.path.join(out, "one")), "two": write(two, os.path.join(out, "two"))},
          open(os.path.join(out, "facts.json"), "w"))
open(os.path.join(out, "rules.toml"), "w").write("\n".join(o) + "\n")
