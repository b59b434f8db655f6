"""What `check` says, held against brute force over the real engine: ``python -m tests.invariants.brute --sites 1000``.

A small random site, trips included, lives through many random lives; what was seen there certainly can be. So what the
check says can *never* be must not be seen, and what it says *can* be should be seen, given lives enough.
"""

from __future__ import annotations

import argparse
import random
import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from typing import Any

from cairnwind.core.explain import checking
from cairnwind.core.language.forms import Rules
from cairnwind.core.rules.needs import Needs
from cairnwind.core.rules.trip import Trip
from tests.invariants import sites
from tests.invariants.__main__ import Chance
from tests.invariants.plant import NS, Plant

LIVES, ACTS = 12, 60


class Deaf:
    """Looks on and says nothing."""

    def __getattr__(self, name: str) -> Any:
        return lambda *_: None


def lived(site: Any, interlocks: Any, chance: random.Random, lives: int = LIVES) -> set[tuple[str, str]]:
    """What was seen: ('on', output), ('reset', trip) and ('rest', trip): everything safe for long, and not tripped."""
    seen: set[tuple[str, str]] = set()
    names, contacts = list(site.outputs), list(site.inputs)
    trips = [rule.name for rule in interlocks if isinstance(rule, Trip)]
    for _ in range(lives):
        run = Plant(site, interlocks, Deaf(), lambda _: 0, sites.BEGIN + chance.randrange(24) * 3600 * NS)
        for name in contacts:
            if chance.random() < 0.5:
                run.set_input(name, True)
        run.pass_time(NS)
        for name in list(run.trips):
            run.reset_trip(name)
        run.pass_time(40 * NS)
        seen |= {("rest", name) for name in trips if name not in run.trips}
        for _ in range(ACTS):
            do = chance.random()
            if do < 0.3:
                name = chance.choice(contacts)
                run.set_input(name, not run.contacts[name])
            elif do < 0.7:
                run.wish(chance.choice(names), chance.random() < 0.7, patient=True)
            elif do < 0.8:
                run.jump(chance.randrange(1, 23) * 3600 * NS)
            run.pass_time(chance.choice((NS, 12 * NS, 70 * NS)))
            seen |= {("on", name) for name, high in run.pins.items() if high}
            for name in list(run.trips):
                run.reset_trip(name)
                if name not in run.trips:
                    seen.add(("reset", name))
                run.pass_time(NS)
            seen |= {("tripped", name) for name in run.trips}
    return seen


QUESTIONS = {
    "can it ever come on?": "on",
    "can it be reset once it has tripped?": "reset",
    "can everything be safe without its tripping?": "rest",
}


def one(seed: int) -> tuple[int, Counter[str], list[str], list[str]]:
    """One site: how the answers fare, those that are wrong, and what may have been missed."""
    site, interlocks, _ = sites.site_and_rules(Chance(seed), most_outputs=4, most_inputs=2)
    answers = [each for each in checking.check(site, Rules(interlocks)) if each.question in QUESTIONS]
    seen = lived(site, interlocks, random.Random(seed))
    ruled = {name for rule in interlocks if isinstance(rule, Needs | Trip) for name in rule.outputs}
    count: Counter[str] = Counter()
    wrong: list[str] = []
    missed: list[str] = []
    for each in answers:
        what = QUESTIONS[each.question]
        was = (what, each.rule) in seen
        if what == "on" and each.rule not in ruled:
            continue
        if what == "reset" and not was and ("tripped", each.rule) not in seen:
            count["never came up"] += 1
        elif each.verdict == "found":
            count["found, rightly" if not was else "found, wrongly"] += 1
            if was:
                wrong.append(f"seed {seed}: {each.what}")
        elif each.verdict == "excluded":
            if not was:  # rare things need more lives
                was = (what, each.rule) in lived(site, interlocks, random.Random(seed + 1), 10 * LIVES)
            count["excluded, and seen" if was else "excluded, not seen"] += 1
            if not was:
                missed.append(f"seed {seed}: {each.rule}: {each.question}")
        else:
            count["not decided"] += 1
    return seed, count, wrong, missed


def main() -> int:
    """Run; 1 if anything was found that is not so."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sites", type=int, default=1000)
    parser.add_argument("--first", type=int, default=0)
    asked = parser.parse_args()
    total: Counter[str] = Counter()
    faults: list[str] = []
    missed: list[str] = []
    with ProcessPoolExecutor() as pool:
        for _, count, wrong, more in pool.map(
            one, range(asked.first, asked.first + asked.sites), chunksize=5
        ):
            total += count
            faults += wrong
            missed += more
    print("\n".join([*faults[:20], *(f"not seen: {each}" for each in missed[:20])]))
    print(f"{asked.sites} sites: {', '.join(f'{many} {word}' for word, many in sorted(total.items()))}")
    return bool(faults)


if __name__ == "__main__":
    sys.exit(main())
