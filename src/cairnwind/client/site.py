"""A site as seen from a program: small and typed, around the site rather than around its parts."""

from cairnwind.client.admitting import Admitting
from cairnwind.client.commanding import Commanding
from cairnwind.client.declared import Declared
from cairnwind.client.editing import Editing
from cairnwind.client.guarding import Guarding
from cairnwind.client.keeping import Keeping
from cairnwind.client.looking import Looking
from cairnwind.client.planning import Planning


class Site(Commanding, Looking, Planning, Guarding, Editing, Admitting, Keeping, Declared):
    """One service, found by state folder, or by address and key.

    Without arguments: the service of ``CAIRNWIND_STATE`` or of the default state folder, or a running demo.
    Raises `CallerError` (``no-service``, ``key``) when there is none, and the service's own errors from every
    call: `CallerError` when the caller is wrong (also when a gate refuses), `BoardError` when a board is.
    """
