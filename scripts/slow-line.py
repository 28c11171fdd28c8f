#!/usr/bin/env python3
"""A line with a delay and a width, for measurements: slow-line.py PORT TO_PORT DELAY_MS MEGABITS

Passes on what comes on PORT to TO_PORT of this computer, each direction DELAY_MS later and at MEGABITS a second over all connections.
Prints "ready" when it listens. Needs nothing but Python.
"""
import asyncio
import sys
import time


class Line:
    """One direction, shared by all connections."""

    def __init__(self, bytes_a_second):
        self.rate, self.free = bytes_a_second, time.monotonic()

    def takes(self, count):
        """When the last of these bytes is through."""
        self.free = max(self.free, time.monotonic()) + count / self.rate
        return self.free


async def passed_on(reader, writer, line, delay):
    waiting = asyncio.Queue(256)

    async def deliver():
        while (item := await waiting.get()) is not None:
            due, data = item
            await asyncio.sleep(max(0, due - time.monotonic()))
            writer.write(data)
            await writer.drain()
        writer.close()

    delivering = asyncio.create_task(deliver())
    try:
        while data := await reader.read(16 * 1024):
            through = line.takes(len(data))
            # Nobody may be further ahead of the line than a router would hold.
            await asyncio.sleep(max(0, through - time.monotonic() - 0.05))
            await waiting.put((through + delay, data))
    except ConnectionError:
        pass
    await waiting.put(None)
    try:
        await delivering
    except ConnectionError:
        pass


async def main():
    port, to_port, delay, megabits = (float(word) for word in sys.argv[1:5])
    there, back = Line(megabits * 125_000), Line(megabits * 125_000)

    async def serve(reader, writer):
        other_reader, other_writer = await asyncio.open_connection("127.0.0.1", int(to_port))
        await asyncio.gather(
            passed_on(reader, other_writer, there, delay / 1000),
            passed_on(other_reader, writer, back, delay / 1000),
        )

    server = await asyncio.start_server(serve, "127.0.0.1", int(port))
    print("ready", flush=True)
    async with server:
        await server.serve_forever()


asyncio.run(main())
