"""The client library: ``from cairnwind.client import Site``.

site = Site()                               # the service that runs on this machine
site.turn("gallery", "40 %")
with site.hold("kiln-vent"):                # on for as long as this block runs, and no longer
    ...
for change in site.changes():
    print(change.name, change.data["state"])
"""

from cairnwind.client.answers import Change, Outcome
from cairnwind.client.hold import Hold
from cairnwind.client.site import Site
from cairnwind.core.values.errors import BoardError, CallerError, Trouble

__all__ = ["BoardError", "CallerError", "Change", "Hold", "Outcome", "Site", "Trouble"]
