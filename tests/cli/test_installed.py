"""What is installed elsewhere: the packages themselves, made and put into an environment that has nothing of this tree."""

from __future__ import annotations

import os
import platform
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

from cairnwind.client import Site
from tests.conftest import eventually, spawn

ROOT = Path(__file__).parents[2]
LEFT_OUT = ("cairnwind", "__editable__", "paho", "zeroconf", "mido", "matplotlib")


def make(dist: Path) -> dict[str, Path]:
    """The packages, by kind."""
    subprocess.run([sys.executable, ROOT / "tools" / "package.py", dist], check=True, capture_output=True)
    kinds = {".gz": "source", "any": "any"}
    return {
        kinds.get(
            each.name.rpartition("-")[2].removesuffix(".whl"), kinds.get(each.suffix, platform.machine())
        ): each
        for each in dist.iterdir()
    }


def tarred(path: Path, into: Path | None = None) -> list[str]:
    """The names in a source package, which is unpacked where that is asked for."""
    with tarfile.open(path) as file:
        if into is not None:
            file.extractall(into, filter="data")
        return file.getnames()


@pytest.fixture(scope="module")
def packages(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    return make(tmp_path_factory.mktemp("dist"))


@pytest.fixture
def fresh(tmp_path: Path) -> Path:
    """The programs of an environment with what the service always needs, and nothing more."""
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", tmp_path / "venv"], check=True)
    (beside,) = (tmp_path / "venv" / "lib").glob("python*/site-packages")
    for each in Path(next(path for path in sys.path if path.endswith("site-packages"))).iterdir():
        if not each.name.startswith(LEFT_OUT):
            (beside / each.name).symlink_to(each)
    return tmp_path / "venv" / "bin"


def pip(fresh: Path, *words: str | Path) -> subprocess.CompletedProcess[str]:
    command = [
        sys.executable,
        "-m",
        "pip",
        "--disable-pip-version-check",
        "--python",
        fresh / "python",
        *words,
    ]
    return subprocess.run(command, capture_output=True, text=True)


def test_packages_are_the_same_bytes_each_time_and_say_what_they_run_on(
    packages: dict[str, Path], tmp_path: Path
) -> None:
    again = make(tmp_path)
    assert {each.name: each.read_bytes() for each in again.values()} == {
        each.name: each.read_bytes() for each in packages.values()
    }
    assert set(packages) >= {"any", "source"}
    for kind, path in packages.items():
        names = tarred(path) if kind == "source" else zipfile.ZipFile(path).namelist()
        assert any(each.endswith("LICENSE") for each in names)
        assert any(each.endswith("service/console/index.html") for each in names)
        assert any(each.endswith("service/console/licences.md") for each in names)
        assert any("/service/console/assets/" in each for each in names)
        assert any(each.endswith("boards/images/board") for each in names) == (kind == platform.machine())
        assert not any(each.endswith(("images/wireless", ".pyc")) for each in names)


def test_a_console_that_is_not_built_is_said_and_no_package_made(
    packages: dict[str, Path], fresh: Path, tmp_path: Path
) -> None:
    tarred(packages["source"], tmp_path)
    (tree,) = tmp_path.glob("cairnwind-*")
    shutil.rmtree(tree / "src" / "cairnwind" / "service" / "console")
    tried = pip(fresh, "install", "--no-index", "--no-deps", "--no-build-isolation", tree)
    assert tried.returncode
    assert "a service without it serves no such pages. Type: make console" in tried.stderr + tried.stdout


def test_a_wheel_serves_the_demo_and_says_what_is_missing(
    packages: dict[str, Path], fresh: Path, tmp_path: Path
) -> None:
    wheel = packages.get(platform.machine(), packages["any"])
    installed = pip(fresh, "install", "--no-index", "--no-deps", wheel)
    assert installed.returncode == 0, installed.stderr
    assert "cairnwind" not in pip(fresh, "check").stdout
    environment = {
        key: value for key, value in os.environ.items() if not key.startswith(("PYTHON", "CAIRNWIND"))
    }
    (tmp_path / "bin").mkdir()
    (tmp_path / "bin" / "setpriv").symlink_to(shutil.which("setpriv") or "")
    environment["PATH"] = str(tmp_path / "bin")  # nothing of a compiler, of Node
    program, state = fresh / "cairnwind", tmp_path / "state"
    run = lambda *words: subprocess.run(  # noqa: E731
        [program, *words], capture_output=True, text=True, cwd=tmp_path, env=environment
    )
    process = spawn(
        program, "demo", "--state", state, "--port", "0", stdout=subprocess.DEVNULL, env=environment
    )
    eventually((state / "address").exists, within=20)
    site = Site(state=str(state))
    eventually(lambda: all(board["up"] for board in site.boards()))
    wired = platform.machine() in packages
    assert {each["name"]: each["link"] for each in site.boards()}["hoist-box"] == (
        "modbus" if wired else "simulated"
    )
    assert "confirmed: on" in run("--state", str(state), "turn", "yard", "on").stdout
    drawn = run("rehearse", str(state / "saltmarsh.toml"), "--picture", "day.png")
    assert "pip install 'cairnwind[plot]'" in drawn.stderr
    process.terminate()
    assert process.wait(20) == 0
    file = tmp_path / "site.toml"
    file.write_text(
        'site = "x"\n[remote.broker]\naddress = "mqtt://127.0.0.1:1"\nkey = "broker"\n[board.near]\nlink = "simulated"\nlines = 2\n'
    )
    served = run("serve", str(file), "--state", str(tmp_path / "other"), "--port", "0")
    said = " ".join(served.stderr.split())
    assert "A message broker needs a package that is not installed." in said
    assert "Install it beside the service: pip install 'cairnwind[broker]'" in said
    assert served.returncode == 9
