"""Rows of the engine and the snapshot, in process."""

from __future__ import annotations

import gc
import itertools
import statistics
import time

from bench.sites import wide
from bench.table import Row, in_turns, measures
from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, TAKEOVER, Instant, Rank, Source, lease
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules, language
from cairnwind.core.rules.kinds import make
from cairnwind.core.values.fact import replace
from cairnwind.core.values.settings import ON
from cairnwind.demo import SITE_FILE
from cairnwind.service.snapshot import Publisher
from cairnwind.site import read_site
from cairnwind.site.plans import read_plan
from cairnwind.site.rules import read_rules

NONE = Rules()
SOURCE = Source("bench", "first key", "keep")


def started(site: Site, rules: Rules = NONE) -> tuple[Engine, list[str]]:
    """An engine with its boards up."""
    engine = Engine(site)
    at = Instant(1, 1)
    for board in site.boards:
        engine.handle(
            ev.LinkUp(
                at,
                board,
                tuple(
                    (name, output.safe) for name, output in site.outputs.items() if output.pin.board == board
                ),
            )
        )
    for name, input in site.inputs.items():
        if not input.valued:
            engine.handle(ev.InputSeen(at, name, False))
    engine.handle(ev.Start(at, interlocks=rules.interlocks, reflexes=rules.reflexes, guards=rules.guards))
    return engine, list(site.outputs)


@measures("interlocks")
def interlocks() -> list[Row]:
    """One command of 10,000 outputs, its confirmation and its publication: with 1,000 interlocks against none."""
    site = wide(10_000)
    site = replace(
        site,
        inputs={"door": Input("door", "contact", Pin(next(iter(site.boards)), 0), words=("shut", "open"))},
    )
    words, names = language(site), list(site.outputs)
    forms: list[dict[str, object]] = []
    for number in range(250):
        four = names[number * 40 : number * 40 + 40]
        forms += [
            {"name": f"needs {number}", "needs": f"door is shut or {four[1]} is on", "outputs": [four[0]]},
            {"name": f"excludes {number}", "excludes": four[2:4]},
            {"name": f"limit {number}", "limit": 4, "outputs": four[4:9]},
            {"name": f"pace {number}", "outputs": four[9:12], "pace": {"least_off": "1 us"}},
        ]
    rules = Rules(tuple(make(form, words) for form in forms))
    ways = []
    concerned = sorted({name for rule in rules.interlocks for name in rule.outputs})
    for some, asked in ((rules, concerned), (NONE, concerned)):
        engine, _ = started(site, some)
        publisher = Publisher(engine.state.site, engine)
        ways.append(
            lambda engine=engine, asked=asked, publisher=publisher: _commands(engine, asked, publisher)
        )
    gc.collect()
    gc.freeze()
    ruled, free = in_turns(9, *ways)
    ratio = ruled / free
    return [
        Row(
            "command under 1,000 interlocks over 10,000 outputs",
            ruled * 1e6,
            "us",
            free * 1e6,
            ratio,
            "<= 1.5",
            ratio <= 1.5,
        )
    ]


@measures("engine scale")
def scale() -> list[Row]:
    """One command, its confirmation and its publication: 10,000 outputs against 10."""
    ways = []
    for count in (10_000, 10):
        engine, names = started(wide(count))
        publisher = Publisher(engine.state.site, engine)
        ways.append(
            lambda engine=engine, names=names, publisher=publisher: _commands(engine, names, publisher)
        )
    gc.collect()
    gc.freeze()
    large, small = in_turns(9, *ways)
    return [
        Row(
            "engine scale, command with 10,000 outputs",
            large * 1e6,
            "us",
            small * 1e6,
            large / small,
            "<= 1.2",
            large / small <= 1.2,
        )
    ]


@measures("circle")
def circle() -> list[Row]:
    """One command of an output that shares a gate with 399 others, its confirmation and its publication; with 3 others."""
    rows = []
    for what in ("one limit over all", "chained excludes"):
        ways = []
        for count in (400, 4):
            site = wide(count)
            names, words = list(site.outputs), language(site)
            forms: list[dict[str, object]] = [
                {"name": "all", "limit": count // 2, "outputs": names, "settle": "1 us"}
            ]
            if what != "one limit over all":
                pairs = itertools.pairwise(names)
                forms = [{"name": f"{one} or {other}", "excludes": [one, other]} for one, other in pairs]
            engine, _ = started(site, Rules(tuple(make(form, words) for form in forms)))
            publisher = Publisher(site, engine)
            ways.append(
                lambda engine=engine, names=names, publisher=publisher: _commands(engine, names, publisher)
            )
        large, small = in_turns(9, *ways)
        ratio = large / small
        rows.append(Row(f"circle of 400, {what}", large * 1e6, "us", small * 1e6, ratio, "<= 3", ratio <= 3))
    return rows


@measures("one contact")
def one_contact() -> list[Row]:
    """A contact that moves: asked by 1,000 rules none of which changes; by one."""
    ways = []
    for count in (1000, 1):
        site = wide(count + 1)
        site = replace(
            site,
            inputs={
                "door": Input("door", "contact", Pin(next(iter(site.boards)), 0), words=("shut", "open"))
            },
        )
        names, words = list(site.outputs), language(site)
        forms = [
            {"name": f"needs {name}", "needs": f"door is shut or {names[-1]} is off", "outputs": [name]}
            for name in names[:-1]
        ]
        engine, _ = started(site, Rules(tuple(make(form, words) for form in forms)))

        def moves(engine: Engine = engine) -> float:
            times = []
            for turn in range(100):
                _clock[0] += 1000
                event = ev.InputSeen(Instant(_clock[0], _clock[0]), "door", bool(turn % 2))
                begin = time.perf_counter()
                engine.handle(event)
                times.append(time.perf_counter() - begin)
            return statistics.median(times)

        ways.append(moves)
    many, one = in_turns(9, *ways)
    ratio = many / one
    return [Row("one contact asked by 1,000 rules", many * 1e6, "us", one * 1e6, ratio, "<= 20", ratio <= 20)]


_clock = [1000]


def _commands(engine: Engine, names: list[str], publisher: Publisher) -> float:
    times = []
    for turn in range(400):
        _clock[0] += 1000
        at = Instant(_clock[0], _clock[0])
        name = names[turn * 7919 % len(names)]
        begin = time.perf_counter()
        effects = engine.handle(ev.Wish(at, "c", SOURCE, name, None, Rank.PERSON, PERSON, TAKEOVER))
        for drive in [effect for effect in effects if type(effect) is ev.Drive]:
            effects += engine.handle(ev.Confirmed(at, drive.output, drive.generation, drive.setting))
        publisher.publish(
            {(effect.kind, effect.name): None for effect in effects if type(effect) is ev.Changed}
        )
        times.append(time.perf_counter() - begin)
    return statistics.median(times)


@measures("engine events")
def events() -> list[Row]:
    """Events through the whole engine, one thread, on the demo site: commands, answers, renewals, inputs."""
    site = read_site(SITE_FILE)
    rules = read_rules(site, read_plan(site))
    full = {name: output.full for name, output in site.outputs.items()}
    off = {name: output.off for name, output in site.outputs.items()}

    def run() -> float:
        engine, names = started(site, rules)
        inputs = [name for name, input in site.inputs.items() if not input.analogue]
        handle = engine.handle
        mono = 10
        handle(ev.Wish(Instant(mono, mono), "h", SOURCE, names[0], ON, Rank.HAND, "hand:h", lease(10**12)))
        handled = 0
        begin = time.perf_counter()
        for turn in range(4000):
            mono += 1000
            at = Instant(mono, mono)
            name = names[1 + turn % (len(names) - 1)]
            for effect in handle(
                ev.Wish(
                    at,
                    "c",
                    SOURCE,
                    name,
                    full[name] if turn // 10 % 2 else off[name],
                    Rank.PERSON,
                    PERSON,
                    TAKEOVER,
                )
            ):
                if type(effect) is ev.Drive:
                    handle(ev.Confirmed(at, effect.output, effect.generation, effect.setting))
                    handled += 1
            handle(ev.InputSeen(at, inputs[turn % len(inputs)], bool(turn & 8)))
            handle(ev.Renew(at, "r", SOURCE, names[0], "hand:h"))
            handle(ev.Tick(at))
            handled += 4
        return handled / (time.perf_counter() - begin)

    (rate,) = in_turns(5, run)
    return [
        Row("engine events, demo site, one thread", rate, "events/s", bar=">= 80,000", holds=rate >= 80_000)
    ]
