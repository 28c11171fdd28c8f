#!/usr/bin/env python3
"""Says of signed programs and packages what openssl and Python's own library say: how docs/real-files.md knows it.

Usage: python3 scripts/known.py FILE...
Windows programs: the digest over the image, made here, is in the message; openssl verifies the message.
Mach-O: every page's hash, made here, is in the code directory; openssl verifies the message over the directory.
Packages: openssl verifies the message over the signer's file and gives the certificate's fingerprint.
Bundles: every file that is there, and is no program of its own, is in the seal with the hash that is made here; the
hashes that stand for the programs are in the ticket. Debug data for Windows: the id that objdump reads is in the file.
"""

import hashlib
import plistlib
import re
import struct
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

SPARE = Path(tempfile.mkdtemp())
INDIRECT_DATA = bytes.fromhex("060a2b060104018237020104")


def keep(name, data):
    (SPARE / name).write_bytes(data)
    return str(SPARE / name)


def openssl(*words):
    done = subprocess.run(["openssl", *words], capture_output=True, text=True)
    return (done.stdout + done.stderr).strip()


def verified(tool, message, content):
    """Who signed is not judged, as in lantern."""
    words = [tool, "-verify", "-inform", "DER", "-in", keep("message", message), "-content", keep("content", content)]
    return openssl(*words, "-binary", "-noverify", "-out", "/dev/null").splitlines()[0]


def subjects(message):
    names = openssl("pkcs7", "-inform", "DER", "-in", keep("message", message), "-print_certs", "-noout")
    return [line for line in names.splitlines() if line.startswith("subject")]


def value(data, at):
    """Where a DER value's content starts, and how long it is."""
    first = data[at + 1]
    if first < 0x80:
        return at + 2, first
    count = first & 0x7F
    return at + 2 + count, int.from_bytes(data[at + 2 : at + 2 + count], "big")


def windows(data):
    optional = struct.unpack_from("<I", data, 0x3C)[0] + 24
    wide = struct.unpack_from("<H", data, optional)[0] == 0x20B
    entry = optional + (112 if wide else 96) + 4 * 8
    at, length = struct.unpack_from("<II", data, entry)
    message = data[at + 8 : at + length]
    image = data[: optional + 64] + data[optional + 68 : entry] + data[entry + 8 : at]
    known = [name for name in ("sha1", "sha256", "sha384") if hashlib.new(name, image).digest() in message]
    outer, _ = value(message, message.index(INDIRECT_DATA) + len(INDIRECT_DATA))
    inner, size = value(message, outer)
    return [f"image digest: {known}", verified("smime", message, message[inner : inner + size]), *subjects(message)]


def slices(data):
    if data[:4] != b"\xca\xfe\xba\xbe":
        return [0]
    return [struct.unpack_from(">5I", data, 8 + 20 * i)[2] for i in range(struct.unpack_from(">I", data, 4)[0])]


def pages(data, start, directory):
    hashes, name, _, count, limit = struct.unpack_from(">5I", directory, 16)
    size, kind, _, shift = directory[36:40]
    make = hashlib.sha256 if kind == 2 else hashlib.sha1
    wrong = 0
    for i in range(count):
        page = data[start + (i << shift) : start + min((i + 1) << shift, limit)]
        wrong += make(page).digest()[:size] != directory[hashes + i * size : hashes + (i + 1) * size]
    return f"{directory[name : directory.index(0, name)].decode()}: {count} pages, {wrong} wrong"


def macos(data):
    out = []
    for start in slices(data):
        at = start + 32
        for _ in range(struct.unpack_from("<I", data, start + 16)[0]):
            command, size, offset = struct.unpack_from("<III", data, at)
            if command == 0x1D:
                table = start + offset
                directory = b""
                for i in range(struct.unpack_from(">I", data, table + 8)[0]):
                    slot, by = struct.unpack_from(">II", data, table + 12 + 8 * i)
                    length = struct.unpack_from(">I", data, table + by + 4)[0]
                    blob = data[table + by : table + by + length]
                    if slot == 0:
                        directory = blob
                        out.append(pages(data, start, blob))
                    if slot == 0x10000 and length > 8:
                        out += [verified("cms", blob[8:], directory), *subjects(blob[8:])]
            at += size
    return out


def package(path):
    out = []
    archive = zipfile.ZipFile(path)
    for name in archive.namelist():
        stem, _, ending = name.rpartition(".")
        if name.startswith("META-INF/") and ending in ("RSA", "EC"):
            message = archive.read(bad-name)
            out.append(verified("smime", message, archive.read(stem + ".SF")))
            words = ["-inform", "DER", "-in", keep("message", message), "-print_certs", "-out", str(SPARE / "pem")]
            openssl("pkcs7", *words)
            out.append(openssl("x509", "-in", str(SPARE / "pem"), "-noout", "-fingerprint", "-sha256", "-subject"))
    return out


def short_hashes(data):
    """The hashes that stand for the signatures of a program's slices."""
    for at in (match.start() for match in re.finditer(b"\xfa\xde\x0c\x02", data)):
        length = struct.unpack_from(">I", data, at + 4)[0]
        kind = {1: hashlib.sha1, 2: hashlib.sha256}.get(data[at + 37] if length < len(data) - at else 0)
        if kind:
            yield kind(data[at : at + length]).digest()[:20]


def bundle(path):
    base = path / "Contents" if (path / "Contents").is_dir() else path
    seal = plistlib.loads((base / "_CodeSignature/CodeResources").read_bytes())["files2"]
    ticket = (base / "CodeResources").read_bytes() if (base / "CodeResources").is_file() else b""
    out, programs = [], []
    for file in sorted(file for file in base.rglob("*") if file.is_file()):
        name, data = str(file.relative_to(base)), file.read_bytes()
        if data[:4] in (b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe"):
            programs.append(f"{name}: in the ticket {[hash in ticket for hash in short_hashes(data)]}")
        elif "hash2" in seal.get(name, {}):
            out.append(f"{name}: {'as' if hashlib.sha256(data).digest() == seal[name]['hash2'] else 'NOT as'} sealed")
        else:
            out.append(f"{name}: not in the seal")
    return out + programs


def debug_data(path):
    """The program of the same name beside it has an id, which is in here."""
    data = path.read_bytes()
    out = []
    for program in sorted(path.parent.glob(path.stem + ".*")):
        if program.read_bytes()[:2] == b"MZ":
            text = subprocess.run(["objdump", "-p", str(program)], capture_output=True, text=True).stdout
            for found in re.findall(r"format RSDS signature ([0-9a-f]{32})", text):
                parts = bytes.fromhex(found)
                out.append(f"id of {program.name} {found}: {parts in data or mixed(parts) in data}")
    return out


def mixed(id):
    """An id as Windows writes it down: its first three numbers begin with their last byte."""
    return id[3::-1] + id[5:3:-1] + id[7:5:-1] + id[8:]


for path in sys.argv[1:]:
    if Path(path).is_dir() or path.endswith(".pdb"):
        print(path, *(bundle if Path(path).is_dir() else debug_data)(Path(path)), sep="\n  ")
        continue
    data = Path(path).read_bytes()
    lines = package(path) if data[:2] == b"PK" else windows(data) if data[:2] == b"MZ" else macos(data)
    print(path, *lines, sep="\n  ")
