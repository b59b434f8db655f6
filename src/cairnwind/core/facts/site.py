"""The site: all that one service looks after."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.hardware import Board, Supply
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values import entries, quantities
from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.keys import written

if TYPE_CHECKING:
    from cairnwind.core.physics.programs import Program
    from cairnwind.core.physics.stick import Pad
    from cairnwind.core.values.moments import Where

LOOPBACK = ("127.0.0.1", "localhost", "::1")
"""Names by which a host knows itself, and nobody else knows it."""
SERVICE = "service"
"""Keys of this kind are of the table ``[service]``; the others of a site stand at the top."""


@fact
class Quiet:
    """Hours in which sounders are silent: minutes of the day in the site's zone, and who is excepted."""

    start: int = written(
        "when they begin", entries.minute, name="from", needed='Say when they begin: from = "22:00".'
    )
    end: int = written("when they end", entries.minute, name="to", needed='Say when they end: to = "07:00".')
    excepted: frozenset[str] = written(
        "a list of sounders that are not silent then", name="except", default=frozenset()
    )


@fact
class Site:
    """One installation: everything one service looks after."""

    name: str = written(
        "the site's name",
        entries.text,
        name="site",
        needed='Give the site a name: site = "Saltmarsh Kiln House".',
    )
    timezone: str = written("IANA name; times are shown in it", entries.zone, default="UTC", unsaid='"UTC"')
    latitude: float | None = written("degrees", partial(entries.between, low=-90.0, high=90.0), default=None)
    longitude: float | None = written(
        "degrees", partial(entries.between, low=-180.0, high=180.0), default=None
    )
    supplies: Mapping[str, Supply] = field(default_factory=dict)
    boards: Mapping[str, Board] = field(default_factory=dict)
    outputs: Mapping[str, Output] = field(default_factory=dict)
    inputs: Mapping[str, Input] = field(default_factory=dict)
    pads: Mapping[str, Pad] = field(default_factory=dict)
    tunes: Mapping[str, Program] = field(default_factory=dict)
    quiet: Quiet | None = None
    groups: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Outputs that are named together."""
    broker: Any = None
    """Address and credentials of the message broker (`cairnwind.boards.facts.Broker`), if there is one."""
    remotes: tuple[Any, ...] = ()
    """The other ways in and out (`cairnwind.site.remotes`)."""
    listen: tuple[str, int] = written(
        "where it listens; any address that is not this machine's own needs `tls` or a certificate ([remotes.md](remotes.md#from-elsewhere))",
        entries.listen,
        default=("127.0.0.1", 8470),
        unsaid='"127.0.0.1:8470"',
        kinds=(SERVICE,),
    )
    tls: str = written(
        '`"self-made"`, or `"plain"`: unprotected',
        partial(entries.choice, among=("self-made", "plain")),
        default="",
        kinds=(SERVICE,),
    )
    """'self-made', 'given' (``certificate``), 'plain', or nothing, which is plain too and for loopback only."""
    certificate: tuple[str, str] = written(
        "a PEM file, beside the site file", default=("", ""), kinds=(SERVICE,)
    )
    """Paths of the certificate and its key."""
    names: tuple[str, ...] = written(
        "other names of this host", entries.hosts, default=(), unsaid="[]", kinds=(SERVICE,)
    )
    behind: str = written(
        'how others call it, where a proxy of theirs stands before it: `"https://house.lan/shed"` ([running.md](running.md#behind-a-proxy))',
        entries.outside,
        default="",
        kinds=(SERVICE,),
    )
    proxies: tuple[str, ...] = written(
        "addresses of such proxies: what they say of who asks is believed, and of nobody else",
        entries.addresses,
        default=("127.0.0.1", "::1"),
        unsaid='["127.0.0.1", "::1"]',
        kinds=(SERVICE,),
    )
    durability: str = written(
        '`"power"`: acknowledged survives a power cut; `"process"`: a killed process',
        partial(entries.choice, among=("power", "process")),
        default="power",
        unsaid='"power"',
        kinds=(SERVICE,),
    )
    journal_age: int = written(
        "how long the journal is kept; notes, starts and ends always are. Why something was so then, records and usage do not need older rows",
        partial(quantities.duration, longest=100 * 366 * 86400),
        default=365 * 86400 * quantities.NS,
        unsaid='"365 d"',
        kinds=(SERVICE,),
    )
    """Nanoseconds."""
    journal_size: int = written(
        "how large the database may become before the oldest rows go, whatever their age",
        entries.size,
        default=2 * 10**9,
        unsaid='"2 GB"',
        kinds=(SERVICE,),
    )
    """Bytes."""
    backup_at: int | None = written(
        "when a backup is made, each day, in the site's zone ([running.md](running.md#backups))",
        entries.minute,
        default=None,
        kinds=(SERVICE,),
    )
    """Minutes of the day."""
    backup_to: str = written(
        "the folder for backups, whole: `/mnt/disk/backups`; `backups` in the state folder where none is said, and another disk is best",
        entries.folder,
        default="",
        kinds=(SERVICE,),
    )
    backup_keeps: tuple[int, int, int] = written(
        "how many are kept: the newest of so many days, weeks and months",
        entries.spans,
        default=(7, 4, 12),
        unsaid='"7 days, 4 weeks, 12 months"',
        kinds=(SERVICE,),
    )
    source: tuple[str, str] = ("", "")
    """The path of the site file, and its text."""

    @property
    def where(self) -> Where:
        """Its time zone, and where it is."""
        from cairnwind.core.values.moments import Where  # time zones are not needed on the way to safe

        return Where(self.timezone, self.latitude, self.longitude)
