#!/usr/bin/env python3
"""Another reader of the formats in docs/formats/: restores a sealed tree of recipe, locator and packs, and applies an update file.

usage: restore.py STORE RECIPE TO              writes the files that a recipe gives
       restore.py STORE RECIPE TO FROM OLD     the same by the update file from the recipe FROM, of the files in OLD; the rest comes as chunks

Written from the documents alone; shares no code with the program. Needs: pip install blake3 zstandard
"""
import bisect
import hashlib
import os
import struct
import sys

import blake3
import zstandard


def unpack(frame, size):
    return zstandard.ZstdDecompressor().decompress(frame, max_output_size=size) if frame else b""


def digest(data):
    return blake3.blake3(data).digest()


class Reader:
    def __init__(self, data):
        self.data, self.at = data, 0

    def take(self, count):
        assert self.at + count <= len(self.data), "the bytes end too early"
        self.at += count
        return self.data[self.at - count:self.at]

    def num(self, form):
        return struct.unpack("<" + form, self.take(struct.calcsize(form)))[0]

    def varint(self, shift=0):
        byte = self.num("B")
        return byte << shift if byte < 128 else (byte & 127) << shift | self.varint(shift + 7)

    def head(self, magic, version):
        assert self.take(10) == magic + struct.pack("<HI", version, 0), f"not {magic}, version {version}"


def read(*parts):
    with open(os.path.join(*parts), "rb") as file:
        return file.read()


def recipe(store, name):
    """The files of a recipe: path, size, digest, bit, chunks; what is no file; and the chunks of each segment."""
    data = read(store, "recipes", name)
    id_of = blake3.blake3(data, derive_key_context="kind-lantern 2026-11-23 recipe id v1").hexdigest()
    assert id_of == name, "the recipe is another"
    root = Reader(data)
    root.head(b"LNRC", 2)
    root.take(2 + 32 + 8 + 8)
    files, others, segments = [], [], {}
    for _ in range(root.num("I")):
        name, length = root.take(32), root.num("I")
        root.take(8)
        data = unpack(read(store, "segments", name.hex()[:2], name.hex()), length)
        assert digest(data) == name and len(data) == length, "a segment is another"
        own, items = segments.setdefault(name.hex(), []), Reader(data)
        items.head(b"LNSG", 2)
        while items.at < len(data):
            kind, is_one = items.num("B"), False
            if kind == 4:
                own.append((items.take(32), items.num("I")))
            else:
                flags, path = items.num("B"), items.take(items.num("H")).decode()
            if kind == 1:
                files.append((path, items.num("Q"), items.take(32), flags & 1, []))
                if is_one := items.num("I") == 1:
                    own.append((files[-1][2], files[-1][1]))
            if kind == 4 or is_one:
                files[-1][4].append(own[-1])
            elif kind != 1:
                others.append((path, items.take(items.num("H")).decode() if kind == 3 else None))
    return files, others, segments


def locators(store, segments):
    """Where each chunk lies: pack, codec, offset, stored length, length."""
    places = {}
    for name, chunks in ((name, chunks) for name, chunks in segments.items() if chunks):
        data = read(store, "locators", name[:2], name)
        assert digest(data[:-32]) == data[-32:], "a locator is damaged"
        list_of = Reader(data)
        list_of.head(b"LNLC", 2)
        assert list_of.take(32).hex() == name
        packs = [(list_of.take(32), list_of.num("I"))[0].hex() for _ in range(list_of.num("I"))]
        for chunk, size in dict.fromkeys(chunks):
            flags = list_of.num("B")
            assert flags & 16 == 0, "a chunk is lost"
            if flags & 32:
                pack, at = packs[list_of.num("I")], list_of.num("I")
            stored = list_of.num("I") if flags & 15 else size
            places[chunk] = (pack, flags & 15, at, stored, size)
            at += stored
    return places


def chunk(store, places, name):
    pack, codec, offset, stored, size = places[name]
    with open(os.path.join(store, "packs", pack[:2], pack + ".pack"), "rb") as file:
        file.seek(offset)
        data = unpack(file.read(stored), size) if codec == 1 else file.read(stored)
    assert len(data) == size and digest(data) == name, "a chunk is damaged"
    return data


def updated(store, to, start, old, new, folder):
    """The files that an update file makes, as far as it copies from old files without tables of addresses."""
    data = read(store, "updates", to, start)
    head = Reader(data)
    head.head(b"LNUP", 1)
    assert (head.take(32).hex(), head.take(32).hex()) == (start, to)
    length, size = head.num("I"), head.num("I")
    list_of = Reader(unpack(head.take(length), size))
    assert head.take(32) == digest(data[:head.at - 32]), "the update file is damaged"
    starts = [sum(file[1] for file in old[:at]) for at in range(len(old) + 1)]
    made, before, end = {}, 0, 0
    for _ in range(list_of.varint()):
        parts = []
        for _ in range(list_of.varint()):
            step, count = list_of.varint(), list_of.varint()
            offset = list_of.varint() if step or not end else end
            before, end = before + step, offset + count
            parts.append((before, offset, count))
        raw, stored = [list_of.varint() for _ in range(6)], [list_of.varint() for _ in range(6)]
        group = head.take(sum(stored))
        assert digest(group) == list_of.take(32), "a group is damaged"
        group = Reader(group)
        streams = [Reader(unpack(group.take(count), size)) for count, size in zip(stored, raw)]
        for file, offset, count in parts:
            tables, ops, gaps, wrong, fields, literals = streams
            has = (tables.varint(), tables.num("B"))[1]
            for _ in range(2 * (has & 1)):
                tables.varint(), tables.varint()
                for _ in range(tables.varint()):
                    [tables.varint() for _ in range(5)]
            pages = [[tables.varint() for _ in range(4)] for _ in range(tables.varint())] if has & 2 else []
            ends = [stream.at + tables.varint() for stream in streams[1:]]
            if not has & 1:
                out, right, old_at, copied, spans = made.setdefault(file, bytearray()), 0, 0, bytearray(), []
                assert len(out) == offset
                while len(out) < offset + count:
                    out += literals.take(ops.varint())
                    if len(out) == offset + count:
                        break
                    size = ops.varint()
                    old_at += ((step := ops.varint()) >> 1) ^ -(step & 1)
                    source = bisect.bisect_right(starts, old_at) - 1
                    with open(os.path.join(folder, old[source][0]), "rb") as opened:
                        opened.seek(old_at - starts[source])
                        spans.append((len(out), size))
                        copied += opened.read(size)
                    out += bytes(size)
                    old_at += size
                while gaps.at < ends[1]:
                    right += gaps.varint()
                    copied[right] = (copied[right] + wrong.num("B")) & 255
                    right += 1
                for at, size in spans:
                    out[at:at + size], copied = copied[:size], copied[size:]
                for first, size, bits, at in pages:
                    for page in range(first, first + size, 1 << bits):
                        hashed = out[page:min(page + (1 << bits), first + size)]
                        out[at:at + 32] = hashlib.sha256(hashed).digest()
                        at += 32
            for stream, at in zip(streams[1:], ends):
                stream.at = at
    return {new[file][0]: bytes(data) for file, data in made.items() if digest(bytes(data)) == new[file][2]}


def main():
    store, name, to = sys.argv[1:4]
    files, others, segments = recipe(store, name)
    made = {} if len(sys.argv) < 5 else updated(store, name, sys.argv[4], recipe(store, sys.argv[4])[0], files, sys.argv[5])
    places = locators(store, segments)
    for path, size, wanted, executable, chunks in files:
        data = made.get(path) or b"".join(chunk(store, places, part) for part, _ in chunks)
        assert len(data) == size and digest(data) == wanted, f"{path} is another"
        target = os.path.join(to, path)
        os.makedirs(os.path.dirname(target) or ".", exist_ok=True)
        with open(target, "wb") as file:
            file.write(data)
        os.chmod(target, 0o755 if executable else 0o644)
    for path, link in others:
        target = os.path.join(to, path)
        os.makedirs(target if link is None else os.path.dirname(target), exist_ok=True)
        link is None or os.symlink(link, target)
    print(f"{len(files)} files, {len(made)} of them by the update file")


main()
