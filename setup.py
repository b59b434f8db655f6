"""What is particular about packing this: no console, no package; and a program inside it says for which machines it is."""

from __future__ import annotations

import struct
from pathlib import Path

from setuptools import Distribution, setup
from setuptools.command.bdist_wheel import bdist_wheel
from setuptools.command.build_py import build_py
from setuptools.errors import SetupError

BUILT = {
    "console": Path("src/cairnwind/service/console/index.html"),
    "help-pages": Path("src/cairnwind/service/help/index.html"),
}
"""What has to have been built, by what `make` builds it as."""
BOARD = Path("src/cairnwind/boards/images/board")
MACHINES = {62: "x86_64", 183: "aarch64"}
"""e_machine of an ELF header, and what package indexes call it."""
INTERPRETER = 3
"""p_type of a program that asks for a loader, and so for a C library of the machine's."""


def machine(program: Path) -> str:
    """The machine that a program runs on by itself, whatever is installed there; empty: none that could be named."""
    try:
        data = program.read_bytes()
        if data[:6] != b"\x7fELF\x02\x01":
            return ""
        (kind,) = struct.unpack_from("<H", data, 18)
        (begin,) = struct.unpack_from("<Q", data, 32)
        size, count = struct.unpack_from("<HH", data, 54)
        asks = {struct.unpack_from("<I", data, begin + size * each)[0] for each in range(count)}
    except (OSError, struct.error):
        return ""
    return "" if INTERPRETER in asks else MACHINES.get(kind, "")


class Packed(build_py):
    """The modules and what lies beside them."""

    def run(self) -> None:
        """Refuse to make a package that serves no pages; a tree to work in may build them later."""
        for target, page in BUILT.items():
            if not (page.exists() or self.editable_mode):
                raise SetupError(
                    f"{page} is not there: a service without it serves no such pages. Type: make {target}"
                )
        super().run()

    def find_data_files(self, package: str, src_dir: str) -> list[str]:
        """The demo's board goes in where its program needs nothing of the machine but its processor."""
        found = super().find_data_files(package, src_dir)
        return [each for each in found if Path(each).name != BOARD.name or machine(BOARD)]


class Tagged(bdist_wheel):
    """A wheel that says what it runs on."""

    def get_tag(self) -> tuple[str, str, str]:
        """Any Python 3; any machine, or any Linux with that processor."""
        found = machine(BOARD)
        return "py3", "none", f"manylinux_2_17_{found}.musllinux_1_1_{found}" if found else "any"


class Contents(Distribution):
    """What is packed."""

    def has_ext_modules(self) -> bool:
        """A program in it makes it one for some machines, as a compiled module would."""
        return bool(machine(BOARD))


setup(distclass=Contents, cmdclass={"build_py": Packed, "bdist_wheel": Tagged})
