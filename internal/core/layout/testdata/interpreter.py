# A second interpreter of rules, which knows nothing of the first. It reads cases, one JSON object a line, and prints
# those in which it comes to another result.
import json, sys
from rules import holds, make

for line in sys.stdin:
    c = json.loads(line)
    want = ""
    for rule in c["rules"]:
        if rule["when"] == "" or holds(rule["when"], c["facts"]):
            want = make(rule["path"], c["values"])
            break
    if want != c["path"]:
        print(json.dumps([want, c]))
