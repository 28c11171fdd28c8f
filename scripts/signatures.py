#!/usr/bin/env python3
"""Verifies the signatures of Android packages and bundles, and of Windows programs, from the specifications alone: nothing of
lantern is used.

    scripts/signatures.py [--authority CERTIFICATE.pem] FILE...

Digests are recomputed with Python's own library; `openssl` verifies what keys have signed, and time stamps where the certificate of
their authority is given. Prints a line for each scheme, and fails when one does not hold or a file has none.
"""
import base64
import hashlib
import re
import struct
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

MIB = 1024 * 1024
HASHES = {0x0101: "sha256", 0x0102: "sha512", 0x0103: "sha256", 0x0104: "sha512", 0x0201: "sha256", 0x0202: "sha512"}


def prefixed(data, at):
    """A part with its length in 4 bytes before it, and where the next one begins."""
    (size,) = struct.unpack_from("<I", data, at)
    if at + 4 + size > len(data):
        raise ValueError("a part is longer than what holds it")
    return data[at + 4 : at + 4 + size], at + 4 + size


def parts(data):
    at = 0
    while at < len(data):
        part, at = prefixed(data, at)
        yield part


def openssl(*arguments, data=None):
    done = subprocess.run(["openssl", *arguments], input=data, capture_output=True)
    return done.returncode == 0, done.stdout


def has_signed(key, algorithm, message, signature):
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        for name, data in [("key", key), ("message", message), ("signature", signature)]:
            (folder / name).write_bytes(data)
        pss = ["-sigopt", "rsa_padding_mode:pss", "-sigopt", "rsa_pss_saltlen:-1"] if algorithm in (0x0101, 0x0102) else []
        ok, _ = openssl(
            "dgst", f"-{HASHES[algorithm]}", "-verify", str(folder / "key"), "-keyform", "DER", *pss,
            "-signature", str(folder / "signature"), str(folder / "message"),
        )
        return ok


def content_digest(sections, name):
    """Section "Integrity-protected contents" of scheme 2."""
    digests = []
    for section in sections:
        for at in range(0, len(section), MIB):
            chunk = section[at : at + MIB]
            digests.append(hashlib.new(name, b"\xa5" + struct.pack("<I", len(chunk)) + chunk).digest())
    return hashlib.new(name, b"\x5a" + struct.pack("<I", len(digests)) + b"".join(digests)).digest()


def public_key(certificate):
    _, own = openssl("x509", "-inform", "DER", "-pubkey", "-noout", data=certificate)
    _, own = openssl("pkey", "-pubin", "-outform", "DER", data=own)
    return own


def lineage_holds(value, certificate):
    """Whether each key of a proof of rotation was signed by the one before, up to the one that signed."""
    before = None
    for node in parts(value[4:]):
        signed, at = prefixed(node, 0)
        (_, signs_with) = struct.unpack_from("<II", node, at)
        signature, _ = prefixed(node, at + 8)
        own, at = prefixed(signed, 0)
        (signed_with,) = struct.unpack_from("<I", signed, at)
        if before:
            key, algorithm = before
            if signed_with != algorithm or not has_signed(key, algorithm, signed, signature):
                return False
        before = (public_key(own), signs_with)
    return struct.unpack_from("<I", value)[0] == 1 and own == certificate


def whole_file(data):
    """The schemes 2, 3 and 3.1: (scheme, whether it holds, fingerprint)."""
    end = data.rfind(b"PK\x05\x06")
    (directory,) = struct.unpack_from("<I", data, end + 16)
    if data[directory - 16 : directory] != b"APK Sig Block 42":
        return
    (size,) = struct.unpack_from("<Q", data, directory - 24)
    start = directory - size - 8
    if struct.unpack_from("<Q", data, start) != (size,):
        raise ValueError("the two sizes of the signing block differ")
    as_if = data[end : end + 16] + struct.pack("<I", start) + data[end + 20 :]
    sections = [data[:start], data[directory:end], as_if]
    at, pairs = start + 8, {}
    while at < directory - 24:
        (length, number) = struct.unpack_from("<QI", data, at)
        pairs[number] = data[at + 12 : at + 8 + length]
        at += 8 + length
    for scheme, number in [(2, 0x7109871A), (3, 0xF05368C0), (3.1, 0x1B93AD61)]:
        if number not in pairs:
            continue
        signers, _ = prefixed(pairs[number], 0)
        for signer in parts(signers):
            signed, at = prefixed(signer, 0)
            outside = signer[at : at + 8] if scheme >= 3 else b""
            signatures, at = prefixed(signer, at + len(outside))
            key, _ = prefixed(signer, at)
            digests, at = prefixed(signed, 0)
            certificates, at = prefixed(signed, at)
            inside = signed[at : at + 8] if scheme >= 3 else b""
            attributes = parts(prefixed(signed, at + len(inside))[0])
            attributes = {struct.unpack_from("<I", part)[0]: part[4:] for part in attributes}
            certificate = next(parts(certificates))
            listed = {struct.unpack_from("<I", part)[0]: prefixed(part, 4)[0] for part in parts(digests)}
            made = {struct.unpack_from("<I", part)[0]: prefixed(part, 4)[0] for part in parts(signatures)}
            lineage, announced = attributes.get(0x3BA06F8C), attributes.get(0x559F8B02)
            holds = (
                list(listed) == list(made)
                and public_key(certificate) == key
                and (lineage is None or lineage_holds(lineage, certificate))
                and (announced is None or 0x1B93AD61 in pairs)
                and outside == inside
                and all(has_signed(key, algorithm, signed, signature) for algorithm, signature in made.items())
                and all(content_digest(sections, HASHES[algorithm]) == digest for algorithm, digest in listed.items())
            )
            yield scheme, holds, hashlib.sha256(certificate).hexdigest()


def fields(section):
    """The fields of a section of a manifest; lines are joined as bytes, for a name may be cut within a character."""
    joined = re.sub(rb"\r\n ", b"", section)
    return dict(line.split(b": ", 1) for line in joined.split(b"\r\n") if line)


def file_by_file(path):
    """Scheme 1, and bundles: (1, whether it holds, fingerprint)."""
    with zipfile.ZipFile(path) as package:
        names = package.namelist()
        blocks = [name for name in names if re.fullmatch(r"META-INF/[^/]+\.(RSA|EC|DSA)", name)]
        for block in blocks:
            listed = package.read(block.rsplit(".", 1)[0] + ".SF")
            manifest = package.read("META-INF/MANIFEST.MF")
            with tempfile.TemporaryDirectory() as folder:
                content, signature = Path(folder, "content"), Path(folder, "signature")
                content.write_bytes(listed)
                signature.write_bytes(package.read(block))
                holds, _ = openssl(
                    "cms", "-verify", "-binary", "-inform", "DER", "-in", str(signature), "-content", str(content),
                    "-noverify", "-out", "/dev/null",
                )
                _, pem = openssl("pkcs7", "-inform", "DER", "-in", str(signature), "-print_certs")
                _, certificate = openssl("x509", "-outform", "DER", data=pem)
            stated = fields(listed.split(b"\r\n\r\n")[0]).get(b"SHA-256-Digest-Manifest", b"")
            holds = holds and base64.b64decode(stated) == hashlib.sha256(manifest).digest()
            sections = [fields(section) for section in manifest.split(b"\r\n\r\n")[1:] if section]
            digests = {section.get(b"Name", b"").decode(): section.get(b"SHA-256-Digest") for section in sections}
            for name in names:
                if name.endswith("/") or re.fullmatch(r"META-INF/([^/]+\.(SF|RSA|EC|DSA)|MANIFEST\.MF)", name):
                    continue
                digest = base64.b64encode(hashlib.sha256(package.read(name)).digest())
                holds = holds and digests.get(name) == digest
            yield 1, holds, hashlib.sha256(certificate).hexdigest()


def value(data, at):
    """A value of DER (X.690): its tag, its content, all of it, and where the next one begins."""
    tag, size, head = data[at], data[at + 1], 2
    if size >= 0x80:
        head += size & 0x7F
        size = int.from_bytes(data[at + 2 : at + head], "big")
    end = at + head + size
    if end > len(data):
        raise ValueError("a value is longer than what holds it")
    return tag, data[at + head : end], data[at:end], end


def values(data):
    at = 0
    while at < len(data):
        tag, content, whole, at = value(data, at)
        yield tag, content, whole


def of_der(tag, content):
    size = len(content)
    head = bytes([size]) if size < 0x80 else b"\x82" + struct.pack(">H", size)
    return bytes([tag]) + head + content


SIGNED_DATA = bytes.fromhex("06092a864886f70d010702")
INDIRECT_DATA = bytes.fromhex("060a2b060104018237020104")
TIME_STAMP = bytes.fromhex("060a2b060104018237030301")
NAMES = {"608648016503040201": "sha256", "608648016503040202": "sha384", "608648016503040203": "sha512", "2b0e03021a": "sha1"}


def image_digest(data, name):
    """"Calculating the PE Image Hash": all but the checksum, the entry of the certificate table, and that table. Returns the digest,
    the table, and whether the checksum is right."""
    (head,) = struct.unpack_from("<I", data, 0x3C)
    optional = head + 24
    entry = optional + (112 if data[optional : optional + 2] == b"\x0b\x02" else 96) + 32
    table, size = struct.unpack_from("<II", data, entry)
    if table % 8 or table + size != len(data):
        raise ValueError("the table does not lie at the end")
    checksum = optional + 64
    covered = data[:checksum] + data[checksum + 4 : entry] + data[entry + 8 : table]
    zeroed = data[:checksum] + bytes(4) + data[checksum + 4 :] + bytes(len(data) % 2)
    total = sum(struct.unpack(f"<{len(zeroed) // 2}H", zeroed))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    (stated,) = struct.unpack_from("<I", data, checksum)
    return hashlib.new(name, covered).digest(), data[table:], stated == total + len(data)


def program(data, authority):
    """A signed program: ("program", whether it holds, fingerprint)."""
    (head,) = struct.unpack_from("<I", data, 0x3C)
    entry = head + 24 + (112 if data[head + 24 : head + 26] == b"\x0b\x02" else 96) + 32
    table, size = struct.unpack_from("<II", data, entry)
    if not table:
        return
    length, revision, kind = struct.unpack_from("<IHH", data, table)
    if (revision, kind) != (0x0200, 2) or length > size:
        raise ValueError("the table is of another kind")
    _, message, _, _ = value(data[table + 8 : table + length], 0)
    oid, explicit = values(message)
    if oid[2] != SIGNED_DATA:
        raise ValueError("not a signed message")
    parts_of = list(values(list(values(explicit[1]))[0][1]))
    version, hashes, content, certificates, signers = parts_of[0], parts_of[1], parts_of[2], parts_of[3], parts_of[-1]
    kind, embedded = values(content[1])
    if kind[2] != INDIRECT_DATA:
        raise ValueError("not about a program")
    (indirect,) = values(embedded[1])
    stated = list(values(list(values(indirect[1]))[1][1]))
    name = NAMES[list(values(stated[0][1]))[0][1].hex()]
    digest, _, checksum_holds = image_digest(data, name)
    holds = stated[1][1] == digest and checksum_holds
    # openssl reads contents of bytes alone: without its content, the message is one about bytes that lie elsewhere.
    bare = of_der(0x30, version[2] + hashes[2] + of_der(0x30, kind[2]) + b"".join(part[2] for part in parts_of[3:]))
    bare = of_der(0x30, SIGNED_DATA + of_der(0xA0, bare))
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        (folder / "content").write_bytes(indirect[1])
        (folder / "message").write_bytes(bare)
        verified, _ = openssl(
            "cms", "-verify", "-binary", "-inform", "DER", "-in", str(folder / "message"), "-content", str(folder / "content"),
            "-noverify", "-out", "/dev/null", "-signer", str(folder / "signer"),
        )
        holds = holds and verified
        certificate = b""
        if verified:
            _, certificate = openssl("x509", "-outform", "DER", data=(folder / "signer").read_bytes())
        info = list(values(list(values(signers[1]))[0][1]))
        beside = [part for part in info if part[0] == 0xA1]
        for attribute in values(beside[0][1]) if beside else []:
            name, members = values(attribute[1])
            if name[2] != TIME_STAMP:
                continue
            (signature,) = [part[1] for part in info if part[0] == 0x04]
            (folder / "signature").write_bytes(signature)
            (folder / "token").write_bytes(members[1])
            if authority:
                stamped, _ = openssl(
                    "ts", "-verify", "-data", str(folder / "signature"), "-token_in", "-in", str(folder / "token"),
                    "-CAfile", authority,
                )
                holds = holds and stamped
            yield "time stamp", holds, "verified" if authority else "not verified: its authority's certificate is not given"
    yield "program", holds, hashlib.sha256(certificate).hexdigest()


def main():
    wrong, paths, authority = False, sys.argv[1:], None
    if paths[:1] == ["--authority"]:
        authority, paths = paths[1], paths[2:]
    for path in paths:
        data = Path(path).read_bytes()
        if data[:2] == b"MZ":
            found = list(program(data, authority))
        else:
            found = [*file_by_file(path), *whole_file(data)]
        for scheme, holds, fingerprint in found:
            print(f"{path}: scheme {scheme} {'holds' if holds else 'DOES NOT HOLD'}, {fingerprint}")
            wrong |= not holds
        if not found:
            print(f"{path}: there is no signature")
            wrong = True
    sys.exit(wrong)


if __name__ == "__main__":
    main()
