"""Clients that know nothing of this service but what it says of itself: by its Thing Description, and by its OpenAPI file."""

from __future__ import annotations

import importlib
import json
import queue
import re
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from cairnwind.commands.table import COMMANDS
from tests.conftest import ROOT, Running, eventually

CONSUMER = ROOT / "tests" / "consumer"
NODE = [str(ROOT / "tools" / "with-node.sh"), str(Path(sys.executable).parent), "node"]


def same_times(form: Any) -> Any:
    """Times as this service writes them: it may write the same ones otherwise."""
    return json.loads(re.sub(r"(\.\d{3})000\+00:00", r"\1Z", json.dumps(form)))


def anything(value: Any) -> bool:
    """Whatever it is."""
    return True


class Consumer:
    """A program that has consumed the Thing Description, and says what it hears."""

    def __init__(self, running: Running, key: str, output: str) -> None:
        self._process = subprocess.Popen(
            [*NODE, "consumer.cjs", f"{running.url}/.well-known/wot", key, output],
            cwd=CONSUMER, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        self._heard: queue.SimpleQueue[list[Any]] = queue.SimpleQueue()
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            self._heard.put(json.loads(line))

    def ask(self, action: str, **given: Any) -> None:
        """Invoke an action, or stop."""
        assert self._process.stdin is not None
        self._process.stdin.write(json.dumps([action, given]) + "\n")
        self._process.stdin.flush()

    def hears(self, **what: Callable[[Any], bool]) -> dict[str, Any]:
        """For each of these, whatever comes first, what came with it once that is as it is awaited."""
        found: dict[str, Any] = {}
        while len(found) < len(what):
            said, value = self._heard.get(timeout=20)
            assert said in (*what, "event", "observed"), f"{said} {value}, and {[*what]} were awaited"
            if said in what and what[said](value):
                found.setdefault(said, value)
        return found

    def end(self) -> int:
        """How it ended."""
        assert self._process.stdin is not None
        self._process.stdin.close()
        return self._process.wait(20)


def test_a_consumer_of_things_reads_invokes_observes_and_subscribes(running: Running) -> None:
    phone = Consumer(running, running.site.new_key("phone", "operate"), "gallery")
    read = phone.hears(read=anything, ready=anything)["read"]
    assert (read["name"], read["confirmed"]["on"]) == ("gallery", False)
    for level in (40, 70):
        phone.ask("turn-gallery", output="gallery", setting=level, wait="2 s")

        def is_there(value: Any, level: int = level) -> bool:
            return value["name"] == "gallery" and value["confirmed"].get("level") == level

        # one answer after another: nothing that came between two of them is lost
        heard = phone.hears(invoked=anything, observed=is_there, event=is_there)
        assert heard["invoked"]["outcome"] == "driving"
    phone.ask("turn-gallery", output="gallery", setting="sideways")
    assert "BAD REQUEST" in phone.hears(refused=anything)["refused"]
    phone.ask("stop")
    assert phone.hears(over=anything) == {"over": None}
    assert phone.end() == 0
    eventually(lambda: running.service.runtime.stream.count == 0)  # what it asked for last is given up


def test_a_client_made_from_the_description_is_compiled_and_used(running: Running, tmp_path: Path) -> None:
    compiled = subprocess.run(
        [*NODE, "node_modules/typescript/bin/tsc", "--outDir", str(tmp_path)], cwd=CONSUMER, capture_output=True, text=True, timeout=120,
        check=False,
    )  # fmt: skip
    assert compiled.returncode == 0, compiled.stdout
    (tmp_path / "node_modules").symlink_to(CONSUMER / "node_modules")
    used = subprocess.run(
        [*NODE, str(tmp_path / "typed.js"), running.url, str(running.key), "gallery"], cwd=ROOT, capture_output=True, text=True, timeout=30,
        check=False,
    )  # fmt: skip
    assert json.loads(used.stdout) == ["driving", 40, "unknown-name"], used.stderr


@pytest.fixture(scope="module")
def generated(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A client that was generated from the OpenAPI file, as a package."""
    folder = tmp_path_factory.mktemp("generated")
    venv = Path(sys.executable).parent
    subprocess.run(
        [sys.executable, str(ROOT / "tools" / "describe.py"), str(folder / "openapi.json")], check=True
    )
    made = subprocess.run(
        [venv / "openapi-python-client", "generate", "--path", "openapi.json", "--output-path", "client", "--meta", "none"],
        cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, timeout=120, check=False,
        env={"PATH": f"{venv}:/usr/bin:/bin"},
    )  # fmt: skip
    assert made.returncode == 0, made.stdout
    assert made.stdout.count("will not be generated") == made.stdout.count("text/calendar") == 1, made.stdout
    sys.path.insert(0, str(folder))
    yield "client"
    sys.path.remove(str(folder))


def test_a_client_generated_from_the_description_commands_and_reads(running: Running, generated: str) -> None:
    def part(name: str) -> Any:
        return importlib.import_module(f"{generated}.{name}")

    client = part("client").AuthenticatedClient(f"{running.url}/api/v1", str(running.key))
    asked = part("models").PostClaimsBody.from_dict({"output": "gallery", "setting": "40 %", "wait": "2 s"})
    made = part("api.claims.post_claims").sync(client=client, body=asked)
    assert (made.outcome.value, made.output) == ("driving", "gallery")
    read = part("api.outputs.get_outputs_name").sync("gallery", client=client)
    assert (read.confirmed.level, read.claims[0].rank.value) == (40, "person")
    assert part("api.outputs.get_outputs_name").sync("nobody", client=client).code == "unknown-name"
    # every form that the service gives is read by it whole: what it read says the same again
    for what, name in (
        ("outputs", "outputs"),
        ("inputs", "inputs"),
        ("boards", "boards"),
        ("rules", "rules"),
        ("plan", "plan"),
    ):
        module = part(f"api.{what}.get_{name}")
        answer = running.http("GET", f"/api/v1/{name}").json()
        found = module.sync(client=client)
        again = [each.to_dict() for each in found] if isinstance(found, list) else found.to_dict()
        assert same_times(again) == same_times(answer), name
    ways = {path.stem for path in (Path(part("api").__file__).parent).rglob("*.py")}
    assert len(ways) > len(COMMANDS), "a function for each call"
