# Looks at a stick as the console of any profile would: by the rules in the profile's file and by what the games are,
# it works out every byte that must be there, and tells which games start and whether the lists say what they should.
# It was written from docs/profile-format.md, and shares nothing with the program but that. With a further argument it
# writes all of it to the stick, which is empty.
import json, os, struct, sys, tomllib

sys.path.insert(0, os.path.join(os.path.dirname(__file__), "../../layout/testdata"))
from rules import holds, make, number

profile = tomllib.load(open(sys.argv[1], "rb"))
games, stick, here = json.load(open(sys.argv[2])), sys.argv[3], json.loads(sys.argv[4])


def size(x):
    return number(x) if isinstance(x, str) else x


def takes(rule, facts):
    return (facts["platform"] in rule.get("platforms", [facts["platform"]]) and
            facts["form"] in rule.get("forms", [facts["form"]]) and
            ("when" not in rule or holds(rule["when"], facts)))


def record(length, fields, v):
    b = bytearray(length)
    for f in fields:
        n, text = f["length"], make(f["value"], v)
        if f["encoding"].startswith("number"):
            x = int(text or 0).to_bytes(8, "little")[:n].ljust(n, b"\0")
            x = x[::-1] if f["encoding"] == "number-be" else x
        else:
            x = text.encode(f["encoding"])[:n].ljust(n, bytes([f.get("fill", 0)]))
        b[f["offset"]:f["offset"] + n] = x
    return bytes(b)


def joined(j, v, discs):
    head, table, body = size(j["header-length"]), b"", b""
    align = size(j.get("align", 1))
    for i, d in enumerate(discs):
        body += bytes([j.get("fill", 0)]) * (-(head + len(body)) % align)
        row = dict(v, index=str(i + 1), file=os.path.basename(d["file"]), size=str(len(d["data"])), id=d["id"],
                   offset=str(head + len(body)))
        table += record(j["record"], j["row"], row)
        body += d["data"]
    body += bytes([j.get("fill", 0)]) * (-(head + len(body)) % align)
    tail = j.get("trailer-length", 0)
    v = dict(v, parts=str(len(discs)), offset=str(head + len(body)), size=str(head + len(body) + tail))
    first = bytearray(record(head, j["header"], v))
    first[j["table"]:j["table"] + len(table)] = table
    return bytes(first) + body + record(tail, j.get("trailer", []), v)


# Which rule takes a game, and what its discs are.
placed = []
for g in games:
    for d in g["discs"]:
        d["inside"] = {}
        if os.path.isdir(d["file"]):
            for at, _, names in os.walk(d["file"]):
                for f in names:
                    d["inside"][os.path.relpath(os.path.join(at, f), d["file"])] = open(os.path.join(at, f), "rb").read()
            d["data"] = b"".join(d["inside"].values())
        else:
            d["data"] = open(d["file"], "rb").read()
    largest = max(len(d["data"]) for d in g["discs"])
    g["facts"] = dict(here, platform="vesper", form=g.get("form", "image"), id=g["id"], name=g["name"], title=g["name"],
                      region=g["region"], kind=g["discs"][0]["kind"], size=str(largest), parts=str(len(g["discs"])),
                      discs=str(len(g["discs"])) if len(g["discs"]) > 1 else "", ext=g.get("ext", ".iso"))
    g["rule"] = next((r for r in profile["accept"] if takes(r, g["facts"])), None)
    if g["rule"]:
        placed.append(g)


def values(g, disc):
    d, many = g["discs"][disc], len(g["discs"]) > 1
    return dict(id=d["id"], title=g["name"], name=g["name"], region=g["region"], kind=d["kind"], platform="vesper",
                ext=g.get("ext", ".iso"), disc=str(disc + 1) if many else "", discs=str(len(g["discs"])) if many else "",
                size=str(len(d["data"])), form=g.get("form", "image"), parts="1", number=str(g.get("number", "")))


# Running numbers: in each folder in front of the number, in the order of titles; discs that do not share the folder
# which has the number have one each.
counts = {}
for g in sorted(placed, key=lambda g: g["name"].upper()):
    path = g["rule"]["path"]
    if "{number" not in path:
        continue
    before = path[:path.index("{number")]
    folder = os.path.dirname(make(before, values(g, 0)) + "x").upper()
    within = make(path, dict(values(g, 0), number="1")).split("/")[:before.count("/") + 1]
    other = make(path, dict(values(g, len(g["discs"]) - 1), number="1")).split("/")[:before.count("/") + 1]
    apart = within != other and "join" not in g["rule"]
    g["apart"] = apart
    g["number"] = counts.get(folder, 0) + 1
    counts[folder] = counts.get(folder, 0) + (len(g["discs"]) if apart else 1)

must, rows, beside = {}, {}, []
for g in placed:
    rule, g["files"], g["own"] = g["rule"], [], []
    here_rows = []
    for i in range(len(g["discs"])):
        v = values(g, i)
        if g.get("apart"):
            v["number"] = str(g["number"] + i)
        join = "join" in rule
        if join and i > 0:
            continue
        data = joined(rule["join"], v, g["discs"]) if join else g["discs"][i]["data"]
        large, files = rule.get("too-large", {}), {}
        if large.get("do") == "split" and len(data) > size(large["over"]):
            n = size(large["part-size"])
            v["parts"] = str(-(-len(data) // n))
            for k in range(0, len(data), n):
                files[make(large["parts"], dict(v, index=str(k // n + 1)))] = data[k:k + n]
        else:
            files[make(rule["path"], v)] = data
        first = next(iter(files))
        inside = g["discs"][i]["inside"]
        if inside:
            files = {first + "/" + name: b for name, b in inside.items()}
        v.update(file=os.path.basename(first), folder=os.path.dirname(first) or ".",
                 base=os.path.basename(first) if inside else os.path.splitext(os.path.basename(first))[0], size=str(len(data)), parts=str(len(files)))
        here_rows.append(v)
        g["files"] += files
        g["own"] += files
        must.update(files)
    for i, r in enumerate(here_rows):
        r["index"] = str(i + 1)
    g["rows"] = here_rows
    facts = dict(g["facts"], parts=here_rows[0]["parts"])
    for c in profile.get("companion", []):
        if not takes(c, facts):
            continue
        v = dict(here_rows[0], disc="")
        at = os.path.normpath(make(c["path"], v))
        if "length" in c:
            must[at] = record(c["length"], c["bytes"], v)
        else:
            must[at] = make(c["text"], v, here_rows).encode(c.get("encoding", "utf-8"))
        g["files"].append(at)
        beside.append(at)
    for n, l in enumerate(profile.get("list", [])):
        if takes(l, facts):
            whole = l.get("per") == "title"
            for r, discs in [(dict(here_rows[0], disc=""), here_rows)] if whole else [(r, ()) for r in here_rows]:
                rows.setdefault((n, os.path.normpath(make(l["path"], r))), []).append((r, discs))

lists = {}
for (n, at), entries in rows.items():
    l = profile["list"][n]
    for by in reversed(l.get("order", [])):
        entries.sort(key=lambda e: e[0][by].upper())
    every = dict(discs=str(len(entries)))
    if "record" in l:
        body = b"".join(record(l["record"], l["field"], r) for r, _ in entries)
        lists[at] = record(l.get("header-length", 0), l.get("header-field", []), every) + body
        continue
    escape = (lambda x: json.dumps(x, ensure_ascii=False)[1:-1]) if l.get("make") == "json" else None
    texts = [make(l.get("line", ""), dict(r, index=str(i + 1)), discs, escape) for i, (r, discs) in enumerate(entries)]
    text = make(l.get("header", ""), every) + l.get("between", "").join(texts) + make(l.get("footer", ""), every)
    lists[at] = text.encode(l.get("encoding", "utf-8"))


if len(sys.argv) > 5:
    for at, b in {**must, **lists}.items():
        os.makedirs(os.path.dirname(os.path.join(stick, at)), exist_ok=True)
        open(os.path.join(stick, at), "wb").write(b)


def lies(at, want):
    try:
        return open(os.path.join(stick, at), "rb").read() == want
    except OSError:
        return False


there = {os.path.relpath(os.path.join(d, f), stick) for d, _, fs in os.walk(stick) for f in fs}
print(json.dumps({
    "placed": sorted(g["name"] for g in placed),
    "starts": sorted(g["name"] for g in placed if all(lies(f, must[f]) for f in g["files"])),
    "astray": sorted(g["name"] for g in placed if not all(lies(f, must[f]) for f in g["own"])),
    "beside": sorted(at for at in beside if not lies(at, must[at])),
    "lists": sorted(at for at, want in lists.items() if not lies(at, want)),
    "strangers": sorted(there - set(must) - set(lists)),
    "missing": sorted((set(must) | set(lists)) - there),
}))
