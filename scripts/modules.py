#!/usr/bin/env python3
"""Checks that no modules of a crate use each other in a circle. A module and what is below it count as one; tests do not count."""
import re
import sys
from pathlib import Path

CRATES = Path(__file__).resolve().parent.parent / "crates"
# An error that wraps those of all use cases is used by all of them.
WRAPPERS = {("lantern-project", "error")}


def names(text):
    """The paths that a `use` or an expression names: `a::{b, c::d}` gives a::b and a::c::d."""
    for head, tail in re.findall(r"\bcrate::((?:\w+::)*)(\{[^}]*\}|\w+)", text):
        for name in re.findall(r"[\w:]+", tail):
            yield (head + name).split("::")


def uses(crate):
    """For each module of a crate the modules that it uses, by their paths below `src`."""
    source = CRATES / crate / "src"
    modules = {}
    for path in source.rglob("*.rs"):
        parts = path.relative_to(source).with_suffix("").parts
        if parts not in (("lib",), ("main",)) and parts[-1] != "tests":
            modules["::".join(parts)] = path
    exported = {}
    for root in (source / "lib.rs", source / "main.rs"):
        for module, tail in re.findall(r"pub use (\w+)::([^;]*);", root.read_text()) if root.exists() else []:
            exported.update({name: module for name in re.findall(r"\w+", tail)})
    graph = {}
    for module, path in modules.items():
        text = re.split(r"#\[cfg\(test\)\]\s*\nmod tests", path.read_text())[0]
        text = re.sub(r"//.*", "", text)
        graph[module] = set()
        for parts in names(text):
            found = next((m for n in range(len(parts), 0, -1) if (m := "::".join(parts[:n])) in modules), None)
            found = found or exported.get(parts[0])
            near = found and (found == module or found.startswith(f"{module}::") or module.startswith(f"{found}::"))
            if found in modules and not near and (crate, found) not in WRAPPERS and (crate, module) not in WRAPPERS:
                graph[module].add(found)
    return graph


def circles(graph):
    """Takes modules away that use nothing that is left, or that nothing uses; what remains goes round in circles."""
    left = {module: set(used) for module, used in graph.items()}
    while True:
        used = set().union(*left.values()) if left else set()
        gone = {module for module in left if not left[module] or module not in used}
        if not gone:
            return left
        left = {module: used - gone for module, used in left.items() if module not in gone}


def main():
    wrong = []
    for crate in sorted(path.name for path in CRATES.iterdir() if (path / "src").is_dir()):
        for module, used in sorted(circles(uses(crate)).items()):
            wrong.append(f"{crate}: {module} uses {', '.join(sorted(used))}, and is used by it")
    print("\n".join(wrong) or "no modules use each other in a circle")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
