#!/usr/bin/env python3
"""A connector for Gull Rock: a folder that plays the storefront. See ../connectors.md.

In lantern.toml:  kind = "connector", run = ["python3", "places/gull_rock.py"], values = { shelf = "/where/the/shelf/is" }
"""

import hashlib
import json
import pathlib
import shutil
import sys


def print_line(**line):
    print(json.dumps(line), flush=True)

def end(code=0, **result):
    print_line(**{key.replace("_", "-"): value for key, value in result.items()})
    sys.exit(code)


def refuse(because, fix):
    end(3, refused={"because": because, "fix": fix})

def copy(files, to, total):
    done = 0
    for file in files:
        source, target = pathlib.Path(file["path"]), to / pathlib.Path(file["path"]).name
        if source.is_dir():
            shutil.copytree(source, target)
            done += file["bytes"]
        else:
            digest = hashlib.sha256()
            with source.open("rb") as reader, target.open("wb") as writer:
                while block := reader.read(1 << 20):
                    writer.write(block)
                    digest.update(block)
                    done += len(block)
                    print_line(progress={"bytes": done, "of": total})
            if file["sha256"] not in (None, digest.hexdigest()):
                refuse(f"{target.name} arrived damaged", "push again")
        print_line(progress={"bytes": done, "of": total})


asked = json.loads(sys.stdin.readline())
shelf = pathlib.Path(asked["storefront"]["values"]["shelf"])
if not shelf.is_dir():
    refuse("the shelf is not there", "make the folder that the value shelf names")
state = shelf / "state.json"
known = json.loads(state.read_text()) if state.exists() else {"attempts": {}, "branches": {}, "next": 41}


def keep(result):
    """Remembers what an attempt came to, so that it is never done twice, and ends."""
    known["attempts"][asked["attempt"]] = result
    (shelf / "part").write_text(json.dumps(known, indent=2))
    (shelf / "part").replace(state)
    end(done=result)


action = asked["action"]
if asked["attempt"] in known["attempts"]:
    end(done=known["attempts"][asked["attempt"]])
if action == "query":
    end(not_begun=True)
if action in ("probe", "list"):
    end(done={"branches": known["branches"]} if action == "list" else {})
if action == "push":
    number = known["next"]
    folder = shelf / str(number)
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    print_line(say=f"putting {asked['release']['version']} on the shelf, number {number}")
    copy(asked["hand-over"], folder, sum(file["bytes"] for file in asked["hand-over"]))
    known["next"] = number + 1
    keep({"number-there": str(number), "address": folder.resolve().as_uri()})
if action in ("promote", "rollback"):
    known["branches"][asked["branch"]] = asked["release"]["number-there"]
    keep({"state": "live"})
end(unknown_action=True)
