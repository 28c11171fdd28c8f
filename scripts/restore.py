#!/usr/bin/env python3
"""Another reader of the formats in docs/formats/: restores a sealed tree of recipe, locator and packs, and applies an update file.

usage: restore.py STORE RECIPE TO              writes the files that a recipe gives
       restore.py STORE RECIPE TO FROM OLD     the same by the update file from the recipe FROM, of the files in OLD; the rest comes as chunks

Written from the documents alone; shares no code with the program. Needs: pip install blake3 zstandard
"""
import bisect
import os
import struct
import sys

import blake3
import zstandard

MASK = (1 << 64) - 1


def unpack(frame, size):
    return zstandard.ZstdDecompressor().decompress(frame, max_output_size=size) if frame else b""


def digest(data):
    return blake3.blake3(data).digest()


class Reader:
    def __init__(self, data):
        self.data, self.at = data, 0

    def take(self, count):
        if self.at + count > len(self.data):
            raise ValueError("the bytes end too early")
        self.at += count
        return self.data[self.at - count:self.at]

    def num(self, form):
        return struct.unpack("<" + form, self.take(struct.calcsize(form)))[0]

    def varint(self):
        value = shift = 0
        while True:
            byte = self.num("B")
            value |= (byte & 127) << shift
            if byte < 128:
                return value
            shift += 7

    def zigzag(self):
        value = self.varint()
        return (value >> 1) ^ -(value & 1)

    def head(self, magic):
        if self.take(10) != magic + struct.pack("<HI", 1, 0):
            raise ValueError(f"not {magic}, version 1")


def read(*parts):
    with open(os.path.join(*parts), "rb") as file:
        return file.read()


def recipe(store, name):
    """The files of a recipe: path, size, digest, bit, chunks; and what is no file."""
    data = read(store, "recipes", name)
    id_of = blake3.blake3(data, derive_key_context="kind-lantern 2026-11-23 recipe id v1").hexdigest()
    assert id_of == name, "the recipe is another"
    root = Reader(data)
    root.head(b"LNRC")
    root.take(2 + 32 + 8 + 8)
    files, others, left = [], [], 0
    for _ in range(root.num("I")):
        name, length, _ = root.take(32), root.num("I"), root.num("I")
        data = read(store, "segments", name.hex()[:2], name.hex())
        assert digest(data) == name and len(data) == length, "a segment is another"
        items = Reader(data)
        items.head(b"LNSG")
        while items.at < len(data):
            kind = items.num("B")
            if kind == 4:
                files[-1][4].append((items.take(32), items.num("I")))
                continue
            flags, path = items.num("B"), items.take(items.num("H")).decode()
            if kind == 1:
                files.append((path, items.num("Q"), items.take(32), flags & 1, []))
                items.num("I")
            else:
                others.append((path, items.take(items.num("H")).decode() if kind == 3 else None))
    return files, others


def locator(store, name):
    data = read(store, "locators", name)
    assert digest(data[:-32]) == data[-32:], "the locator is damaged"
    list_of = Reader(data)
    list_of.head(b"LNLC")
    assert list_of.take(32).hex() == name
    packs = [(list_of.take(32), list_of.num("I"))[0].hex() for _ in range(list_of.num("I"))]
    places = {}
    for _ in range(list_of.num("I")):
        pack, chunk, codec = packs[list_of.num("I")], list_of.take(32), list_of.num("B")
        assert list_of.num("B") == 0 and list_of.take(2) == b"\0\0"
        places[chunk] = (pack, codec, list_of.num("I"), list_of.num("I"), list_of.num("I"))
    return places


def chunk(store, places, name):
    pack, codec, offset, stored, size = places[name]
    with open(os.path.join(store, "packs", pack[:2], pack + ".pack"), "rb") as file:
        file.seek(offset)
        data = file.read(stored)
    data = unpack(data, size) if codec == 1 else data
    assert len(data) == size and digest(data) == name, "a chunk is damaged"
    return data


def updated(store, to, start, old, new, folder):
    """The files that an update file makes, as far as it copies from old files without tables of addresses."""
    data = read(store, "updates", to, start)
    head = Reader(data)
    head.head(b"LNUP")
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
            has_tables = (tables.varint(), tables.num("B"))[1]
            for _ in range(2 * has_tables):
                tables.varint(), tables.varint()
                for _ in range(tables.varint()):
                    [tables.varint() for _ in range(5)]
            ends = [stream.at + tables.varint() for stream in streams[1:]]
            if not has_tables:
                out, right, old_at, copied, spans = made.setdefault(file, bytearray()), 0, 0, bytearray(), []
                assert len(out) == offset
                while len(out) < offset + count:
                    out += literals.take(ops.varint())
                    if len(out) == offset + count:
                        break
                    size = ops.varint()
                    old_at += ops.zigzag()
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
                used = 0
                for at, size in spans:
                    out[at:at + size] = copied[used:used + size]
                    used += size
            for stream, at in zip(streams[1:], ends):
                stream.at = at
    return {new[file][0]: bytes(data) for file, data in made.items() if digest(bytes(data)) == new[file][2]}


def main():
    store, name, to = sys.argv[1:4]
    files, others = recipe(store, name)
    made = {} if len(sys.argv) < 5 else updated(store, name, sys.argv[4], recipe(store, sys.argv[4])[0], files, sys.argv[5])
    places = locator(store, name)
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
        if link is not None:
            os.symlink(link, target)
    print(f"{len(files)} files, {len(made)} of them by the update file")


main()
