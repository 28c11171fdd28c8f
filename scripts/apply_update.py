#!/usr/bin/env python3
"""Applies an update file, as docs/formats/update.md says: the files that it makes of old ones; the rest comes as chunks, as restore.py does it.

usage: apply_update.py STORE RECIPE TO FROM OLD     of the files in OLD, which the recipe FROM gives

Written from the documents alone; shares no code with the program. Needs: pip install blake3 zstandard
"""
import bisect
import hashlib
import os
import sys

from restore import Reader, digest, read, recipe, restore, unpack


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


if __name__ == "__main__":
    store, name, to, start, folder = sys.argv[1:]
    restore(store, name, to, updated(store, name, start, recipe(store, start)[0], recipe(store, name)[0], folder))
