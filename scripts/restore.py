#!/usr/bin/env python3
"""Another reader of the formats in docs/formats/: restores a sealed tree of recipe, locator and packs.

usage: restore.py STORE RECIPE TO     writes the files that a recipe gives

Written from the documents alone; shares no code with the program. Needs: pip install blake3 zstandard
"""
import functools
import os
import struct
import sys

import blake3
import zstandard


def unpack(frame, size, before=b""):
    prefix = zstandard.ZstdCompressionDict(before, dict_type=zstandard.DICT_TYPE_RAWCONTENT) if before else None
    return zstandard.ZstdDecompressor(dict_data=prefix).decompress(frame, max_output_size=size) if frame else b""


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
            list_of.take(4 if flags & 15 == 2 else 0)
            places[chunk] = (pack, flags & 15, at, stored, size)
            at += stored
    return places


@functools.cache
def whole(store):
    """Where the chunks of all packs lie that are no differences."""
    places = {}
    for name in (name for _, _, names in os.walk(os.path.join(store, "packs")) for name in names if name.endswith(".pack")):
        data = read(store, "packs", name[:2], name)
        table, count = struct.unpack("<II4x", data[-12:])
        for at in range(table, table + 48 * count, 48):
            chunk, codec, *rest = struct.unpack("<32sB3xIII", data[at:at + 48])
            if codec != 2:
                places[chunk] = (name[:-5], codec, *rest)
    return places


def chunk(store, places, name):
    pack, codec, offset, stored, size = places[name]
    with open(os.path.join(store, "packs", pack[:2], pack + ".pack"), "rb") as file:
        file.seek(offset)
        data = file.read(stored)
    if codec == 2:
        to = 1 + 32 * data[0]
        data = unpack(data[to:], size, b"".join(chunk(store, whole(store), data[at:at + 32]) for at in range(1, to, 32)))
    elif codec == 1:
        data = unpack(data, size)
    assert len(data) == size and digest(data) == name, "a chunk is damaged"
    return data


def restore(store, name, to, made):
    """Writes the files of a recipe, those in `made` as they are there."""
    files, others, segments = recipe(store, name)
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


if __name__ == "__main__":
    restore(*sys.argv[1:4], {})
