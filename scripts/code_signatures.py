#!/usr/bin/env python3
"""Verifies the code signatures of programs and bundles for macOS and iOS, from the specifications alone: nothing of lantern is used.

    scripts/code_signatures.py [--quiet] PATH...

PATH is a program, or a folder that is a bundle. Hashes of pages, special slots and files are made again with Python's own library;
`openssl cms` verifies the message of an identity. Prints a line for each signature, and fails when one does not hold.
"""
import hashlib
import os
import plistlib
import re
import struct
import subprocess
import sys
import tempfile
from pathlib import Path

HASHES = {1: ("sha1", 20), 2: ("sha256", 32), 3: ("sha256", 20), 4: ("sha384", 48)}
MAGICS = {b"\xce\xfa\xed\xfe": ("<", 28), b"\xcf\xfa\xed\xfe": ("<", 32), b"\xfe\xed\xfa\xce": (">", 28), b"\xfe\xed\xfa\xcf": (">", 32)}
BUNDLES = {".app", ".framework", ".bundle", ".plugin", ".appex", ".xpc", ".systemextension"}


class Wrong(Exception):
    pass


def slices(data):
    """Offset and length of each slice."""
    if data[:4] in (b"\xca\xfe\xba\xbe", b"\xca\xfe\xba\xbf"):
        wide = data[3] == 0xBF
        (count,) = struct.unpack_from(">I", data, 4)
        for number in range(count):
            row = struct.unpack_from(">IIQQII" if wide else ">IIIII", data, 8 + number * (32 if wide else 20))
            if row[2] % (1 << row[4]):
                raise Wrong("a slice does not lie where its alignment demands")
            yield row[2], row[3]
    else:
        yield 0, len(data)


def signature_of(code):
    """Place and length of a slice's signature, and its embedded property list."""
    order, at = MAGICS.get(code[:4], (None, None))
    if order is None:
        raise Wrong("no program")
    (count,) = struct.unpack_from(order + "I", code, 16)
    found, info, text, linkedit = None, None, None, None
    for _ in range(count):
        command, size = struct.unpack_from(order + "II", code, at)
        if command == 0x1D:
            found = struct.unpack_from(order + "II", code, at + 8)
        if command in (0x1, 0x19):
            wide = command == 0x19
            name = code[at + 8 : at + 24].rstrip(b"\0")
            segment = struct.unpack_from(order + ("QQQQ" if wide else "IIII"), code, at + 24)
            if name == b"__TEXT":
                text = segment[2:]
            if name == b"__LINKEDIT":
                linkedit = segment[2] + segment[3]
            step = 8 if wide else 4
            sections, row = at + 24 + 4 * step + 16, 80 if wide else 68
            (number,) = struct.unpack_from(order + "I", code, at + 24 + 4 * step + 8)
            for section in range(sections, sections + number * row, row):
                if code[section : section + 16].rstrip(b"\0") == b"__info_plist":
                    (length,) = struct.unpack_from(order + ("Q" if wide else "I"), code, section + 32 + step)
                    (place,) = struct.unpack_from(order + "I", code, section + 32 + 2 * step)
                    info = code[place : place + length]
        at += size
    return found, info, text, linkedit


def blobs(signature):
    magic, length, count = struct.unpack_from(">III", signature, 0)
    if magic != 0xFADE0CC0 or length > len(signature):
        raise Wrong("no embedded signature")
    out = {}
    for number in range(count):
        slot, at = struct.unpack_from(">II", signature, 12 + 8 * number)
        (size,) = struct.unpack_from(">I", signature, at + 4)
        out[slot] = signature[at : at + size]
    return out


def text_at(blob, at):
    return blob[at : blob.index(b"\0", at)].decode()


def cms_holds(message, content):
    with tempfile.TemporaryDirectory() as folder:
        message_file, content_file = Path(folder) / "message", Path(folder) / "content"
        message_file.write_bytes(message)
        content_file.write_bytes(content)
        how = ["-verify", "-binary", "-inform", "DER", "-in", message_file, "-content", content_file, "-noverify", "-out", os.devnull]
        done = subprocess.run(["openssl", "cms", *how], capture_output=True)
        return done.returncode == 0


def der(data, at=0):
    """The next value: tag, content, and where the one behind it begins."""
    tag, first = data[at], data[at + 1]
    at += 2
    length = first
    if first & 0x80:
        length = int.from_bytes(data[at : at + (first & 0x7F)], "big")
        at += first & 0x7F
    return tag, data[at : at + length], at + length


def der_members(data):
    at = 0
    while at < len(data):
        tag, content, at = der(data, at)
        yield tag, content


def entitlement(tag, content):
    if tag == 0x01:
        return content != b"\0"
    if tag == 0x02:
        return int.from_bytes(content, "big", signed=True)
    if tag == 0x0C:
        return content.decode()
    if tag == 0x30:
        return [entitlement(*member) for member in der_members(content)]
    if tag == 0xB0:
        pairs = [list(der_members(pair)) for _, pair in der_members(content)]
        keys = [key[1] for key, _ in pairs]
        if keys != sorted(keys):
            raise Wrong("the entitlements in DER are not sorted")
        return {key[1].decode(): entitlement(*value) for key, value in pairs}
    raise Wrong(f"an entitlement of kind {tag}")


def verify_slice(code, beside):
    """Returns the short hashes of a slice's directories, and what it says of itself. `beside` are special slots by their numbers."""
    found, info, text, linkedit = signature_of(code)
    if found is None:
        return None
    if found[0] + found[1] != len(code) or linkedit != len(code):
        raise Wrong("the signature does not end the slice")
    parts = blobs(code[found[0] : found[0] + found[1]])
    directories = [parts[slot] for slot in sorted(parts) if slot == 0 or 0x1000 <= slot < 0x1005]
    short, says = [], {}
    beside = dict(beside)
    if 1 not in beside and info is not None:
        beside[1] = info
    for blob in directories:
        version, flags, hashes_at, identifier_at, specials, pages, limit = struct.unpack_from(">7I", blob, 8)
        length, kind, _, shift = struct.unpack_from("4B", blob, 36)
        name, kept = HASHES[kind]
        digest = lambda data: hashlib.new(name, data).digest()[:kept]
        if kept != length or limit != found[0]:
            raise Wrong("the directory does not cover the code")
        size = 1 << shift if shift else limit
        if pages != (limit + size - 1) // size:
            raise Wrong("the directory has another number of pages")
        for page in range(pages):
            listed = blob[hashes_at + page * length :][:length]
            if digest(code[page * size : min((page + 1) * size, limit)]) != listed:
                raise Wrong(f"page {page} differs")
        for slot in range(1, max(specials, 7) + 1):
            listed = blob[hashes_at - slot * length :][:length] if slot <= specials else bytes(length)
            content = parts.get(slot) if slot in (2, 5, 7) else beside.get(slot)
            wanted = digest(content) if content is not None else bytes(length)
            # Who signs nothing but the code says nothing of what lies beside it.
            if listed != wanted and not (flags & 2 and not any(listed) and slot in (1, 3)):
                raise Wrong(f"slot {slot} differs")
        if version >= 0x20400 and struct.unpack_from(">QQ", blob, 64) != text:
            raise Wrong("the executable segment is another")
        team_at = struct.unpack_from(">I", blob, 48)[0] if version >= 0x20200 else 0
        says = {"identifier": text_at(blob, identifier_at), "flags": flags, "version": version}
        says["team"] = text_at(blob, team_at) if team_at else None
        short.append(digest(blob)[:20])
    if 5 in parts and 7 in parts:
        _, content, _ = der(parts[7][8:])
        if entitlement(*list(der_members(content))[1]) != plistlib.loads(parts[5][8:].lstrip()):
            raise Wrong("the two lists of entitlements differ")
    message = parts.get(0x10000, b"")[8:]
    says["signed by"] = "nobody"
    if message:
        if not cms_holds(message, directories[0]):
            raise Wrong("openssl does not verify the message")
        says["signed by"] = "an identity"
        if not any(hash_ in message or plist_has(message, hash_) for hash_ in short):
            raise Wrong("the message names other directories")
    return short, says


def plist_has(message, hash_):
    import base64

    return base64.b64encode(hash_) in message


def layout(folder):
    """Where a bundle's seal begins, its Info.plist and its program."""
    versions = folder / "Versions"
    if versions.is_dir():
        current = versions / "Current"
        base = (versions / os.readlink(current)) if current.is_symlink() else sorted(versions.iterdir())[0]
        info = base / "Resources" / "Info.plist"
        programs = base
    elif (folder / "Contents").is_dir():
        base = folder / "Contents"
        info, programs = base / "Info.plist", base / "MacOS"
    else:
        base, info, programs = folder, folder / "Info.plist", folder
        if not info.exists():
            info = folder / "Resources" / "Info.plist"
    name = plistlib.loads(info.read_bytes()).get("CFBundleExecutable", folder.stem)
    return base, info, programs / name


def verify_program(path, beside, quiet):
    data = path.read_bytes()
    short, says = [], None
    for offset, length in slices(data):
        found = verify_slice(data[offset : offset + length], beside)
        if found is None:
            continue
        short += found[0]
        says = found[1]
    if says is None:
        raise Wrong("it is not signed")
    if not quiet:
        hardened = ", hardened" if says["flags"] & 0x10000 else ""
        print(f"{path}: {says['identifier']}, signed by {says['signed by']}{hardened}")
    return short, says


def verify_bundle(folder, quiet):
    base, info, main = layout(folder)
    seal_file = base / "_CodeSignature" / "CodeResources"
    seal = seal_file.read_bytes() if seal_file.exists() else None
    beside = {1: info.read_bytes()}
    if seal is not None:
        beside[3] = seal
    known = verify_program(main, beside, quiet)
    if seal is not None:
        verify_seal(base, main, plistlib.loads(seal), quiet)
    return known


def verify_seal(base, main, seal, quiet):
    rules = [(re.compile(text), rule) for text, rule in seal["rules2"].items()]

    def heaviest(path):
        fitting = [rule if isinstance(rule, dict) else {} for expression, rule in rules if expression.search(path)]
        return max(fitting, key=lambda rule: rule.get("weight", 1), default=None)

    listed = dict(seal["files2"])
    code = {path for path, says in listed.items() if isinstance(says, dict) and "cdhash" in says}
    for folder, folders, files in os.walk(base):
        for name in files + [name for name in folders if os.path.islink(os.path.join(folder, name))]:
            full = Path(folder) / name
            path = full.relative_to(base).as_posix()
            if full == main or path.startswith("_CodeSignature/") or path == "CodeResources":
                continue
            if any(path.startswith(inside + "/") for inside in code):
                continue
            rule = heaviest(path)
            says = listed.pop(path, None)
            if says is None:
                if rule is None or rule.get("omit"):
                    continue
                raise Wrong(f"{path} is not in the seal of {base}")
            if "symlink" in says:
                if not full.is_symlink() or os.readlink(full) != says["symlink"]:
                    raise Wrong(f"{path} is another link")
            elif "hash2" in says:
                if full.is_symlink() or hashlib.sha256(full.read_bytes()).digest() != says["hash2"]:
                    raise Wrong(f"{path} differs")
            elif "cdhash" in says:
                inside(full, says, quiet)
            elif hashlib.sha1(full.read_bytes()).digest() != says["hash"]:
                raise Wrong(f"{path} differs")
            older = seal.get("files", {}).get(path)
            if older is not None:
                digest = older["hash"] if isinstance(older, dict) else older
                if not full.is_symlink() and hashlib.sha1(full.read_bytes()).digest() != digest:
                    raise Wrong(f"{path} differs from the older list")
    for path, says in listed.items():
        if "cdhash" in says and (base / path).is_dir():
            inside(base / path, says, quiet)
        elif not (says.get("optional") or (heaviest(path) or {}).get("optional")):
            raise Wrong(f"{path} is missing")


def inside(path, says, quiet):
    short, about = verify_bundle(path, quiet) if path.is_dir() else verify_program(path, {}, quiet)
    if says["cdhash"] not in short and about["signed by"] == "nobody":
        raise Wrong(f"{path} is another than the seal names")


def main():
    arguments = sys.argv[1:]
    quiet = "--quiet" in arguments
    wrong = 0
    for path in map(Path, filter(lambda argument: argument != "--quiet", arguments)):
        try:
            verify_bundle(path, quiet) if path.is_dir() else verify_program(path, {}, quiet)
        except (Wrong, OSError, ValueError, KeyError, struct.error, IndexError) as error:
            print(f"{path}: {error}", file=sys.stderr)
            wrong += 1
    return 1 if wrong or not arguments else 0


if __name__ == "__main__":
    sys.exit(main())
