# Templates and conditions of rules, written from docs/profile-format.md alone.
import hashlib, re, zlib


def arc(b):
    c = 0
    for x in b:
        c ^= x
        for _ in range(8):
            c = c >> 1 ^ 0xA001 if c & 1 else c >> 1
    return "%04x" % c


def first(s):
    c = s.strip()[:1].upper()
    return c if "A" <= c <= "Z" else "0-9" if c.isdigit() and c else "other"


def group(s, n):
    c = first(s)
    if len(c) > 1 or n == 1:
        return c
    a = (ord(c) - 65) // n * n
    b = min(a + n - 1, 25)
    return chr(65 + a) if a == b else chr(65 + a) + "-" + chr(65 + b)


def letters(n):
    out = ""
    while n:
        n, r = (n - 1) // 26, (n - 1) % 26
        out = chr(97 + r) + out
    return out


def isnum(s):
    return re.fullmatch(r"-?[0-9]+", s) is not None


def transform(v, t):
    name, _, arg = t.partition(":")
    if name == "upper": return v.upper()
    if name == "lower": return v.lower()
    if name == "trim": return v.strip()
    if name == "max": return v if len(v) <= int(arg) else v[:int(arg)].rstrip(" .-_")
    if name == "pad": return v.rjust(int(arg), "0")
    if name == "letter": return first(v)
    if name == "group": return group(v, int(arg))
    if name == "default": return v or arg
    if name == "add": return str(int(v) + int(arg)) if isnum(v) else v
    if name == "hex": return "%0*x" % (int(arg), int(v)) if isnum(v) and int(v) >= 0 else v
    if name == "letters": return letters(int(v)) if isnum(v) and int(v) > 0 else v
    if name in ("unit", "blocks"):
        unit = number("1" + arg if name == "unit" else arg)
        return str(-(-int(v) // unit)) if isnum(v) else v
    if name == "replace":
        a, b = arg.split(":", 1)
        return v.replace(a, b)
    if name == "table": return dict(p.split("=", 1) for p in arg.split(":")).get(v, v)
    if name == "sub":
        p = [int(x) for x in arg.split(":")]
        v = v[p[0]:] if p[0] >= 0 or -p[0] <= len(v) else v
        return v[:p[1]] if len(p) > 1 else v
    if name == "hash":
        b = v.encode()
        if arg == "crc16": return arc(b)
        if arg == "crc32": return "%08x" % zlib.crc32(b)
        return hashlib.new(arg, b).hexdigest()
    raise Exception(t)


def number(s):
    m = re.fullmatch(r"([0-9.]+)(KiB|MiB|GiB|MB)?", s)
    unit = {None: 1, "KiB": 1024, "MiB": 1024 ** 2, "GiB": 1024 ** 3, "MB": 10 ** 6}[m.group(2)]
    return int(float(m.group(1)) * unit)


def holds(c, v):
    return any(all(term(t.strip(), v) for t in part.split(" and ")) for part in c.split(" or "))


def term(t, v):
    neg = t.startswith("not ")
    w = t[4:].split() if neg else t.split()
    x = v.get(w[0], "")
    rest = " ".join(w[2:])
    values = x.split("\n") if w[0] == "tags" else [x]
    if len(w) == 1:
        ok = x != ""
    elif w[1] == "is":
        if rest.startswith("not "):
            neg, rest = not neg, rest[4:]
        ok = rest.lower() in [y.lower() for y in values]
    elif w[1] == "in":
        ok = any(r.strip().lower() == y.lower() for r in rest.split(",") for y in values)
    elif w[1] == "over":
        ok = isnum(x) and int(x) > number(rest)
    elif w[1] == "under":
        ok = isnum(x) and int(x) < number(rest)
    elif w[1] == "matches":
        ok = re.search(rest, x, re.I) is not None
    return ok != neg


def make(template, v, rows=(), escape=None):
    """Fills a template; rows are what {each} is written for, escape what a value becomes in the text."""
    tokens = re.findall(r"\{\{|\}\}|\{[^{}]*\}|[^{}]+", template)
    return fill(tokens, v, rows, escape)[0]


def fill(tokens, v, rows=(), escape=None):
    """Fills tokens up to the end of a section; gives the text and the word that ended it."""
    out = ""
    while tokens:
        t = tokens.pop(0)
        if t in ("{{", "}}") or not t.startswith("{"):
            out += t[:1] if t in ("{{", "}}") else t
        elif t in ("{end}", "{else}"):
            return out, t
        elif t == "{each}":
            body, depth = [], 0
            while tokens[0] != "{end}" or depth:
                depth += tokens[0].startswith("{if ") - (tokens[0] == "{end}")
                body.append(tokens.pop(0))
            tokens.pop(0)
            for row in rows:
                out += fill(body[:], row, (), escape)[0]
        elif t.startswith("{if "):
            a, stop = fill(tokens, v, rows, escape)
            b = ""
            if stop == "{else}":
                b, _ = fill(tokens, v, rows, escape)
            out += a if holds(t[4:-1], v) else b
        else:
            words = t[1:-1].split("|")
            x = v.get(words[0], "")
            for w in words[1:]:
                x = transform(x, w)
            out += escape(x) if escape else x
    return out, ""
