"""The ways in for commands, and the ways out for what happens. Each speaks one protocol and asks the desk."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from cairnwind.boards.facts import Broker
    from cairnwind.core.facts.site import Site
    from cairnwind.folder import Folder
    from cairnwind.remotes.desk import Desk
    from cairnwind.remotes.remote import Remote


def opened(site: Site, desk: Desk, store: Any, folder: Folder, broker: Broker | None = None) -> list[Remote]:
    """The remotes that the site file asks for, to be started. ``store`` has a ``reader`` and a ``writer``; ``broker`` is where other sites are, where
    the site that is given is only a part of one."""
    from cairnwind.remotes.progress import Progress  # the service is safe before it looks beyond itself
    from cairnwind.site import remotes as facts

    found: list[Remote] = []
    at = site.broker or broker

    def progress(way: str) -> Progress:
        return Progress(way, store.reader, store.writer)

    if site.broker is not None and (site.broker.key or site.broker.tells):
        from cairnwind.remotes.broker import BrokerRemote

        found.append(BrokerRemote(desk, site.broker, folder.secret, progress("broker")))
    for told in site.remotes:
        match told:
            case facts.Modbus():
                from cairnwind.remotes.modbus import ModbusRemote, Places

                def places(kind: str, names: Any) -> Places:
                    remote = f"modbus {kind}"
                    return Places(
                        names,
                        store.reader.places(remote),
                        lambda name, number: store.writer.put([("place", (remote, name, number))]),
                    )

                found.append(
                    ModbusRemote(desk, told, places("output", site.outputs), places("input", site.inputs))
                )
            case facts.Line():
                from cairnwind.remotes.line import LineRemote

                found.append(LineRemote(desk, told))
            case facts.Keypad():
                from cairnwind.remotes.keypad import KeypadRemote

                found.append(KeypadRemote(desk, told))
            case facts.Surface():
                from cairnwind.remotes.surface import SurfaceRemote

                found.append(SurfaceRemote(desk, told))
            case facts.OtherSite():
                from cairnwind.remotes.othersite import SiteRemote

                assert at is not None
                found.append(SiteRemote(desk, told, at, folder.secret))
            case facts.Hook() | facts.Mail():
                from cairnwind.remotes.outward import HookRemote, MailRemote

                made = HookRemote if isinstance(told, facts.Hook) else MailRemote
                found.append(made(desk, told, progress(told.name), folder.secret))
    return found
