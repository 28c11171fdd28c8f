#!/usr/bin/env python3
"""Checks what is depended on against docs/dependencies.md: licenses, sources, and crates that are there in two versions."""
import json
import re
import subprocess
import sys
from collections import defaultdict

ALLOWED = {
    "MIT", "Apache-2.0", "Apache-2.0 WITH LLVM-exception", "BSD-2-Clause", "BSD-3-Clause", "ISC", "Zlib", "0BSD", "CC0-1.0",
    "MIT-0", "Unicode-3.0", "Unlicense", "BSL-1.0", "OpenSSL", "CDLA-Permissive-2.0",
}
# Crates that are there twice, each with the reason in docs/dependencies.md.
TWICE = {"const-oid", "der", "syn"}
MOST = 232


def is_allowed(expression):
    """SPDX: every part joined by AND, one of those joined by OR."""
    text = expression.replace("/", " OR ").strip()
    while text.startswith("(") and text.endswith(")") and text.count("(") == 1:
        text = text[1:-1].strip()
    parts = re.split(r"\s+AND\s+(?![^(]*\))", text)
    if len(parts) > 1:
        return all(is_allowed(part) for part in parts)
    return any(part.strip(" ()") in ALLOWED for part in re.split(r"\s+OR\s+", text))


def main():
    out = subprocess.run(
        ["cargo", "metadata", "--format-version", "1", "--locked"], check=True, capture_output=True, text=True
    ).stdout
    metadata = json.loads(out)
    own = set(metadata["workspace_members"])
    nodes = {node["id"]: node for node in metadata["resolve"]["nodes"]}
    # What our own crates need, on any system.
    used, todo = set(), list(own)
    while todo:
        at = todo.pop()
        if at not in used:
            used.add(at)
            todo.extend(dependency["pkg"] for dependency in nodes[at]["deps"])
    wrong, names = [], set()
    for package in metadata["packages"]:
        if package["id"] not in used or package["id"] in own:
            continue
        names.add(package["name"])
        name = f'{package["name"]} {package["version"]}'
        if not package["license"] or not is_allowed(package["license"]):
            wrong.append(f"{name}: the license {package['license']!r} is not one of those that are allowed")
        if not (package["source"] or "").startswith("registry+"):
            wrong.append(f"{name}: it comes from {package['source'] or 'a folder'}, not from the registry")
    # The fuzzer stands by itself, and its lock file follows from ours.
    fuzz = ["cargo", "metadata", "--format-version", "1", "--locked", "--manifest-path", "fuzz/Cargo.toml"]
    if subprocess.run(fuzz, capture_output=True).returncode != 0:
        wrong.append("fuzz/Cargo.lock is older than what it is made of: cargo metadata --manifest-path fuzz/Cargo.toml")
    built = subprocess.run(
        ["cargo", "tree", "--locked", "--workspace", "-e", "normal,build", "--prefix", "none", "--format", "{p}"],
        check=True, capture_output=True, text=True,
    ).stdout
    here = defaultdict(set)
    for line in built.splitlines():
        words = line.split()
        if len(words) >= 2 and not words[0].startswith(("lantern-", "kind-lantern")):
            here[words[0]].add(words[1])
    twice = {name for name, found in here.items() if len(found) > 1}
    wrong += [f"{name}: there in versions {', '.join(sorted(here[name]))}" for name in sorted(twice - TWICE)]
    wrong += [f"{name}: no longer there twice; take it out of TWICE" for name in sorted(TWICE - twice)]
    count = sum(len(found) for found in here.values())
    if count > MOST:
        wrong.append(f"{count} crates are built, more than {MOST}")
    print(f"{count} crates are built here, {len(names)} are named in Cargo.lock for all systems")
    for line in wrong:
        print(f"error: {line}", file=sys.stderr)
    return 1 if wrong else 0


sys.exit(main())
