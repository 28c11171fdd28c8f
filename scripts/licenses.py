#!/usr/bin/env python3
"""Prints the licenses of all libraries that the program is built of, with their texts as they were published."""
import json
import pathlib
import subprocess

NAMES = ("LICENSE", "LICENCE", "COPYING", "NOTICE", "UNLICENSE")


def main():
    metadata = json.loads(
        subprocess.run(["cargo", "metadata", "--locked", "--format-version", "1"], check=True, capture_output=True).stdout
    )
    own = set(metadata["workspace_members"])
    texts = {}
    for package in sorted(metadata["packages"], key=lambda p: (p["name"], p["version"])):
        if package["id"] in own:
            continue
        print(f"{package['name']} {package['version']}: {package['license'] or 'see its text'}")
        folder = pathlib.Path(package["manifest_path"]).parent
        # What a library compiles of others lies in a folder of its own.
        for file in sorted([*folder.iterdir(), *folder.glob("vendor/*/*")]):
            if file.is_file() and file.name.upper().startswith(NAMES):
                text = file.read_text(encoding="utf-8", errors="replace").strip()
                texts.setdefault(text, []).append(f"{package['name']} {package['version']}")
    for text, packages in texts.items():
        print("\n" + "=" * 100)
        print(", ".join(packages))
        print("=" * 100 + "\n")
        print(text)


main()
