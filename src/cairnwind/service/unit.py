"""What a machine is told so that a site is served there for good: a unit for systemd, rules for udev, a user of its own.

Only what the site has wired is let in: its classes of devices and their groups, a network that is no wider than its
addresses. Sources: systemd.exec(5), systemd.service(5), systemd.resource-control(5), sysusers.d(5).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from cairnwind.boards import kinds
from cairnwind.boards.access import INPUT, Access, serial
from cairnwind.core.facts.site import LOOPBACK, Site
from cairnwind.core.values.errors import CallerError
from cairnwind.site import remotes as ways

NAME = re.compile(r"[a-z][a-z0-9-]{0,30}")
PRIVILEGED = 1024
"""Ports below it are root's."""
WATCHED = 10
"""Seconds without a turn of the engine after which the service is begun anew."""
ENDS_WITHIN = 20
"""Seconds for the way to safe, for the guards' too, before what is left is killed."""
NOT_AGAIN = (2, 8)
"""Exit codes that another start would not mend: wrong use, a site file with errors."""
HIDDEN = ("/root", "/home", "/run/user", "/tmp", "/var/tmp")
"""Folders that the service does not see."""


class Unit(NamedTuple):
    """A site served for good, by the name of its unit, its user and its folders."""

    name: str
    site: Site
    program: str
    """The whole path of the command."""

    @property
    def folder(self) -> str:
        """Where its site file is, and what belongs to that."""
        return f"/etc/{self.name}"

    @property
    def site_file(self) -> str:
        """What it serves."""
        return f"{self.folder}/site.toml"

    @property
    def state(self) -> str:
        """Where it keeps its state."""
        return f"/var/lib/{self.name}"

    @property
    def _called(self) -> str:
        """Its name, with nothing in it that a unit would read as something else."""
        return " ".join(self.site.name.replace("%", "%%").replace('"', "").replace("\\", "").split())

    @property
    def accesses(self) -> tuple[Access, ...]:
        """What of the machine it is let near, each once."""
        return tuple(dict.fromkeys(_accesses(self.site)))

    def files(self) -> dict[str, str]:
        """Every file that tells the machine, by its path."""
        told = {
            f"/etc/systemd/system/{self.name}.service": self._service(),
            f"/etc/sysusers.d/{self.name}.conf": self._users(),
            f"/etc/tmpfiles.d/{self.name}.conf": f"Z {self.folder} - {self.name} {self.name} -\n",
        }
        rules = [f"# {each.what}\n{each.rule}\n" for each in self.accesses if each.rule]
        if rules:
            told[f"/etc/udev/rules.d/60-{self.name}.rules"] = "".join(rules)
        return told

    def commands(self, root: str = "") -> list[list[str]]:
        """What is typed, in order, when they are there; in a tree that is another machine's (``root``) nothing is started."""
        there = [f"--root={root}"] if root else []
        found = [
            ["systemd-sysusers", *there, f"{self.name}.conf"],
            ["systemd-tmpfiles", *there, "--create", f"{self.name}.conf"],
        ]
        if not root:
            if any(each.rule for each in self.accesses):
                found += [["udevadm", "control", "--reload"], ["udevadm", "trigger"]]
            found.append(["systemctl", "daemon-reload"])
        found.append(["systemctl", *there, "enable", f"{self.name}.service"])
        return found if root else [*found, ["systemctl", "restart", f"{self.name}.service"]]

    def _users(self) -> str:
        groups = sorted({each.group for each in self.accesses})
        return "".join(
            [f'u {self.name} - "{self._called}, served by Cairnwind" {self.state}\n']
            + [f"g {group} -\n" for group in groups]
        )

    def _service(self) -> str:
        groups = sorted({each.group for each in self.accesses})
        classes = [name for each in self.accesses for name in each.classes]
        written = [
            self.folder,
            *([f"-{_quoted(self.site.backup_to)}"] if self.site.backup_to else []),
            *(["/sys/devices"] if any(each.written for each in self.accesses) else []),
        ]
        bind = "CAP_NET_BIND_SERVICE" if _privileged(self.site) else ""
        local = _local(self.site)
        lines = [
            "[Unit]",
            f"Description={self._called}, served by Cairnwind",
            "After=network.target time-sync.target local-fs.target",
            "StartLimitIntervalSec=300",
            "StartLimitBurst=10",
            "",
            "[Service]",
            "Type=notify",
            "# every output has been told its safe setting before it is said to be ready; it says at each second that its engine turns",
            f"ExecStart={_quoted(self.program)} --state {self.state} serve {self.site_file}",
            f"ExecReload={_quoted(self.program)} --state {self.state} reload",
            f"WatchdogSec={WATCHED}",
            "Restart=on-failure",
            "RestartSec=2",
            f"RestartPreventExitStatus={' '.join(map(str, NOT_AGAIN))}",
            "# its guards take pins to safe when it was killed: they are given the time",
            "KillMode=control-group",
            f"TimeoutStopSec={ENDS_WITHIN}",
            "TimeoutStartSec=120",
            f"User={self.name}",
            f"Group={self.name}",
            *([f"SupplementaryGroups={' '.join(groups)}"] if groups else []),
            f"StateDirectory={self.name}",
            "StateDirectoryMode=0700",
            f"ReadWritePaths={' '.join(written)}",
            "UMask=0077",
            "OOMScoreAdjust=-500",
            "",
            "# the devices that its boards are wired to, and no other",
            *(["DevicePolicy=closed"] if classes else ["PrivateDevices=yes"]),
            *(f"DeviceAllow=char-{name} rw" for name in classes),
            "",
            f"# the network: {'this machine alone' if local else 'its site file has addresses elsewhere'}",
            f"RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6{'' if local else ' AF_NETLINK'}",
            *(["IPAddressDeny=any", "IPAddressAllow=localhost"] if local else []),
            f"CapabilityBoundingSet={bind}",
            f"AmbientCapabilities={bind}",
            "",
            *ALONE,
            "",
            "[Install]",
            "WantedBy=multi-user.target",
        ]
        return "\n".join(lines) + "\n"


ALONE = """\
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
PrivateIPC=yes
ProtectProc=invisible
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectKernelLogs=yes
ProtectControlGroups=yes
ProtectClock=yes
ProtectHostname=yes
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
RemoveIPC=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
KeyringMode=private
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
SystemCallErrorNumber=EPERM""".splitlines()
"""What it never needs."""


def unit(name: str, site: Site, program: Path, *, elsewhere: bool = False) -> Unit:
    """Raises `CallerError` for a name that is none, or a program that its own user could not run."""
    if not NAME.fullmatch(name):
        raise CallerError(
            "bad-value", f"'{name}' cannot be the name of a unit and of a user.", "Use small letters, digits and hyphens: --name cairnwind."
        )  # fmt: skip
    hidden = next((each for each in HIDDEN if program.is_relative_to(each)), "")
    closed = next(
        (each for each in program.parents if each.exists() and not each.stat().st_mode & 0o001), None
    )
    if (hidden or closed) and not elsewhere:
        raise CallerError(
            "permission",
            f"The command is {program}, and in {hidden or closed} the service's own user may see nothing.",
            "Install it where all may read it: sudo python3 -m venv /opt/cairnwind && sudo /opt/cairnwind/bin/pip install cairnwind; "
            "then: sudo /opt/cairnwind/bin/cairnwind service install …",
        )
    return Unit(name, site, str(program))


def _quoted(path: str) -> str:
    """As a unit has a path with spaces."""
    return (
        '"' + path.replace("%", "%%").replace("\\", "\\\\") + '"' if re.search(r"[^\w./+-]", path) else path
    )


def _accesses(site: Site) -> Iterator[Access]:
    for board in site.boards.values():
        yield from kinds.find(board.link).needs(board.facts)
        if board.enable is not None and board.enable.host is not None:
            yield from kinds.find(board.enable.host.link).needs(board.enable.host.facts)
    for each in site.remotes:
        if isinstance(each, ways.Line):
            yield serial(each.port)
        elif isinstance(each, ways.Keypad) and not each.simulated:
            yield INPUT


def _listens(site: Site) -> Iterator[tuple[str, int]]:
    yield site.listen
    for each in site.remotes:
        if isinstance(each, ways.Modbus | ways.Surface):
            yield each.listen


def _privileged(site: Site) -> bool:
    return any(0 < port < PRIVILEGED for _, port in _listens(site))


def _local(site: Site) -> bool:
    """Whether nothing of it is elsewhere, and nobody elsewhere may come."""
    return (
        site.broker is None
        and not any(isinstance(each, ways.Hook | ways.Mail) for each in site.remotes)
        and not any(getattr(board.facts, "tcp", False) for board in site.boards.values())
        and all(host in LOOPBACK for host, _ in _listens(site))
    )
