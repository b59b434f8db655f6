"""Servers to measure, each in a process of its own, told what to do over standard input.

    python -m bench.serve product COUNT     the product on a wide site
    python -m bench.serve doors FILE        the product on a site file
    python -m bench.serve committed         same web server: key check, one queue hop, one committed row
    python -m bench.serve echo              same web server: a bare echo

Each prints one JSON line when it listens. Orders, a line each: 'slow SECONDS', 'stats', 'pins', 'end'.
"""

from __future__ import annotations

import hashlib
import json
import queue
import resource
import sqlite3
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

KEY = "a-key-to-measure-with"


def product(count: int, broker: int = 0) -> None:
    """The product; with the port of a message broker its remote too."""
    from bench.sites import wide
    from cairnwind.boards.facts import Broker
    from cairnwind.core.values.fact import replace
    from cairnwind.folder import Folder
    from cairnwind.service.serve import Service

    with tempfile.TemporaryDirectory() as state:
        site = wide(count)
        if broker:
            site = replace(site, broker=Broker("127.0.0.1", broker, key="measure"))
        service = Service(site, Folder(state), 0)
        service.start()
        if broker:
            service.keys.ensure("measure", "keep")
            service.desk.pace = lambda *_, **__: None  # type: ignore[method-assign]
        obey(service)


def doors(site_file: str) -> None:
    """The product on a site file, with whatever ways in that has; its key for those is called 'measure'."""
    from cairnwind.folder import Folder
    from cairnwind.service.serve import Service
    from cairnwind.site import read_site

    with tempfile.TemporaryDirectory() as state:
        service = Service(read_site(site_file), Folder(state), 0)
        service.start()
        service.keys.ensure("measure", "keep")
        obey(service)


def obey(service: Any) -> None:
    """What a product is told to do, until it is told to end."""
    link = service.machine.links["rack"]
    writer = service.runtime.writer
    say({"port": service.port, "key": service.folder.key()})
    for order, value in orders():
        if order == "slow":
            writer.slow = float(value)
        elif order == "stats":
            say({"commits": writer.commits, "written": writer.written, "rss": rss(), "cpu": cpu()})
        elif order == "journal":
            say({"rows": lengthen(service.folder.database, int(value))})
        elif order == "hang":
            writer.slow = float(value)
            writer.put([("old answers", (0,))])
            threading.Timer(float(value), lambda: setattr(writer, "slow", 0.0)).start()
        elif order == "pins":
            moves = link.seen
            say({"seen": [moves.popleft() for _ in range(len(moves))]})  # others may come meanwhile
    service.stop()


def lengthen(path: Path, count: int) -> int:
    """A journal of so many rows more, from long ago."""
    connection = sqlite3.connect(path, timeout=60)
    (first,) = connection.execute("SELECT coalesce(min(seq), 1) FROM journal").fetchone()
    rows = (
        (first - 1 - n, 1_000_000_000 * n, "change", f"relay-{n % 10}", f"relay-{n % 10} is on", "", "", "{}")
        for n in range(count)
    )
    connection.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
    connection.commit()
    connection.close()
    return count


def committed() -> None:
    """The reference for acknowledged commands: what no durable service could do without."""
    from flask import Flask, request

    from cairnwind.store.database import connect, prepare

    known = {hashlib.sha256(KEY.encode()).hexdigest()}
    waiting: queue.SimpleQueue[tuple[str, queue.SimpleQueue[int]]] = queue.SimpleQueue()
    app = Flask("committed")
    slow = [0.0]

    def write(path: Path) -> None:
        connection = connect(path, "power", write=True)
        number = 0
        while True:
            group = [waiting.get()]
            while not waiting.empty():
                group.append(waiting.get())
            rows = []
            for text, _ in group:
                number += 1
                rows.append((number, time.time_ns(), "command", "relay-1", text, "", "", "{}"))
            connection.execute("BEGIN IMMEDIATE")
            connection.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
            if slow[0]:
                time.sleep(slow[0])
            connection.execute("COMMIT")
            for (_, reply), row in zip(group, rows, strict=True):
                reply.put(row[0])

    @app.post("/api/v1/claims")
    def command() -> tuple[dict[str, int], int]:
        _, _, text = request.headers["Authorization"].partition(" ")
        if hashlib.sha256(text.encode()).hexdigest() not in known:
            return {}, 401
        reply: queue.SimpleQueue[int] = queue.SimpleQueue()
        waiting.put((request.get_json()["output"], reply))
        return {"sequence": reply.get()}, 201

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "reference.db"
        prepare(path)
        threading.Thread(target=write, args=(path,), daemon=True).start()
        serve(app, slow)


def echo() -> None:
    """The reference for latency: request in, the same out."""
    from flask import Flask, Response, request

    app = Flask("echo")

    @app.post("/api/v1/claims")
    def command() -> Response:
        return Response(request.get_data(), content_type="application/json")

    serve(app, [0.0])


def bare(port: int) -> None:
    """The reference for the broker: what comes is noted, and sent back."""
    import paho.mqtt.client as mqtt
    from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

    from cairnwind.boards.mqtt import no_delay

    seen: list[int] = []
    client = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=MQTTProtocolVersion.MQTTv5)

    def came(client: mqtt.Client, data: object, message: mqtt.MQTTMessage) -> None:
        seen.append(time.monotonic_ns())
        client.publish("bare/pong", message.payload, qos=1)

    client.on_message = came
    client.on_connect = lambda *_: client.subscribe("bare/ping", 1)
    client.on_socket_open = lambda client, data, sock: no_delay(sock)
    client.connect("127.0.0.1", port)
    client.loop_start()
    say({"port": port, "key": KEY})
    for order, _ in orders():
        if order == "pins":
            say({"seen": list(seen)})
            seen.clear()
    client.loop_stop()


def serve(app: object, slow: list[float]) -> None:
    """The same web server as the product's, in front of a reference."""
    from cairnwind.service.server import Server

    server = Server(app, ("127.0.0.1", 0))  # type: ignore[arg-type]
    say({"port": server.start(), "key": KEY})
    for order, value in orders():
        if order == "slow":
            slow[0] = float(value)
        elif order == "stats":
            say({"rss": rss(), "cpu": cpu()})
    server.stop()


def orders() -> object:
    """Orders from standard input, until 'end'."""
    for line in sys.stdin:
        order, _, value = line.strip().partition(" ")
        if order == "end":
            return
        yield order, value
        if order in ("slow", "hang"):
            say({})


def say(form: object) -> None:
    """One JSON line."""
    print(json.dumps(form), flush=True)


def rss() -> int:
    """Resident bytes of this process."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()


def cpu() -> float:
    """Seconds of processor time of this process so far."""
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


if __name__ == "__main__":
    assert sqlite3.threadsafety
    given = sys.argv[2:]
    {
        "doors": lambda: doors(*given),
        "product": lambda: product(*map(int, given)),
        "committed": committed,
        "echo": echo,
        "bare": lambda: bare(*map(int, given)),
    }[sys.argv[1]]()
