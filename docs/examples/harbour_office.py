#!/usr/bin/env python3
"""An approval that looks at bundles in a folder: a stand-in for the vendor of a system, to rehearse with and to begin one's own from.

What is handed in is put into the folder `values.desk`. It is answered once a file `answer` lies there: "yes", or a reason against it.
Without one the answer is always "yes", as soon as it is asked for.
"""
import hashlib
import json
import struct
import sys
import zipfile
from pathlib import Path


def say(**line):
    print(json.dumps(line), flush=True)


def slices(code):
    """Each architecture of a program."""
    if code[:4] != b"\xca\xfe\xba\xbe":
        return [code]
    (count,) = struct.unpack_from(">I", code, 4)
    rows = [struct.unpack_from(">5I", code, 8 + 20 * number) for number in range(count)]
    return [code[row[2] : row[2] + row[3]] for row in rows]


def hash_of(code):
    """The hash that stands for the signature of one architecture."""
    at = code.rindex(b"\xfa\xde\x0c\xc0")
    (first,) = struct.unpack_from(">I", code, at + 16)
    (length,) = struct.unpack_from(">I", code, at + first + 4)
    return hashlib.sha256(code[at + first : at + first + length]).digest()[:20]


def ticket(archive):
    """A ticket names the signature of every architecture of every program."""
    out = b"s8ch" + struct.pack("<I", 1)
    with zipfile.ZipFile(archive) as bundle:
        for name in bundle.namelist():
            code = bundle.read(name)
            if "/Contents/MacOS/" in name and code[:4] in (b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe"):
                out += b"".join(hash_of(one) for one in slices(code))
    return out


def main():
    asked = json.loads(sys.stdin.readline())
    desk = Path(asked["storefront"]["values"]["desk"])
    desk.mkdir(parents=True, exist_ok=True)
    kept = desk / (asked["attempt"] + ".zip")
    if asked["action"] == "submit":
        handed = asked["hand-over"][0]
        data = Path(handed["path"]).read_bytes()
        if hashlib.sha256(data).hexdigest() != handed["sha256"]:
            say(refused={"because": "it arrived damaged", "fix": "hand it over again"})
            return 3
        kept.write_bytes(data)
        say(say="it lies on the desk")
        say(done={"state": "waiting"})
    elif asked["action"] == "query":
        answer = desk / "answer"
        word = answer.read_text().strip() if answer.exists() else "yes"
        if not kept.exists():
            say(**{"not-begun": True})
        elif word == "later":
            say(done={"state": "waiting"})
        elif word != "yes":
            say(refused={"because": word})
            return 3
        else:
            path = kept.with_suffix(".ticket")
            path.write_bytes(ticket(kept))
            say(done={"ticket": str(path)})
    else:
        say(**{"unknown-action": True})
    return 0


if __name__ == "__main__":
    sys.exit(main())
