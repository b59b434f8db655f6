"""Holds: claims that last as long as somebody renews them."""

from __future__ import annotations

import threading
from types import TracebackType

from cairnwind.client.answers import Outcome, outcome_of
from cairnwind.client.wire import Wire
from cairnwind.core.values.errors import CallerError, Trouble

RENEWALS = 3
"""How often a hold is renewed within its lease."""


class Hold:
    """Claims of rank *hand* that last as long as they are renewed. Use it as a context manager.

    ``lost`` is set, with a reason, when the service has ended it (all-stop, a lost board, a lost link).
    """

    def __init__(self, site: Wire, outputs: list[str], setting: str | float, lease: str) -> None:
        self._site, self._outputs, self._lease = site, outputs, lease
        self._how = {"setting": setting, "rank": "hand", "lease": lease}
        self._over = threading.Event()
        self._claims: list[int] = []
        self.lost: str | None = None
        self.outcome: Outcome | None = None
        """Of the first output."""

    def __enter__(self) -> Hold:
        if len(self._outputs) == 1:
            found = [
                self._site.call("POST", "/claims", {"output": self._outputs[0], **self._how, "wait": "1 s"})
            ]
        else:
            asked = [{"output": name, **self._how} for name in self._outputs]
            found = self._site.call("POST", "/commands", {"claims": asked})["outcomes"]
        self.outcome = outcome_of(found[0])
        for form in found:
            if form["claim"] is None:  # a later off has overtaken it
                raise CallerError("no-claim", f"{form['output']}: {form['reason']}.", "Hold it again.")
        self._claims = [form["claim"]["id"] for form in found]
        from cairnwind.core.values.quantities import NS, duration

        pause = duration(self._lease) / NS / RENEWALS
        self._thread = threading.Thread(
            target=self._keep_up, args=(pause,), name="cairnwind-hold", daemon=True
        )
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._over.set()
        self._thread.join()
        for claim in self._claims:
            try:
                self._site.call("DELETE", f"/claims/{claim}")
            except Trouble:
                pass  # it has ended by itself, or will with its lease

    def change(self, setting: str | float) -> Outcome:
        """Bring what is held to another setting; the outcome of the first."""
        found = [
            self._site.call("PATCH", f"/claims/{claim}", {"setting": setting, "wait": "1 s"})
            for claim in self._claims
        ]
        return outcome_of(found[0])

    def _keep_up(self, pause: float) -> None:
        while not self._over.wait(pause):
            try:
                self._site.call("PATCH", "/claims", {"claims": self._claims})
            except Trouble as error:
                self.lost = error.sentence
                return
