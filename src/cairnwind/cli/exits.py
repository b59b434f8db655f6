"""Exit codes, by kind of failure. The table in ``docs/command-line.md`` is made from here."""

CODES = {
    "no-service": (3, "no service answers"),
    "unknown-name": (4, "a name that nobody has given to anything"),
    "no-claim": (4, "a name that nobody has given to anything"),
    "refused": (5, "refused, or held back by a gate"),
    "unreachable": (6, "the board or device does not answer, is held by another, or did not do it"),
    "no-device": (6, "the board or device does not answer, is held by another, or did not do it"),
    "device": (6, "the board or device does not answer, is held by another, or did not do it"),
    "held-line": (6, "the board or device does not answer, is held by another, or did not do it"),
    "no-answer": (6, "the board or device does not answer, is held by another, or did not do it"),
    "permission": (7, "not allowed: key, role or sign-in; a device that this user may not open"),
    "bad-map": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "bad-profile": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "secret": (9, "state folder, database, port or secret cannot be used"),
    "key": (7, "not allowed: key, role or sign-in; a device that this user may not open"),
    "role": (7, "not allowed: key, role or sign-in; a device that this user may not open"),
    "sign-in": (7, "not allowed: key, role or sign-in; a device that this user may not open"),
    "reload": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "site-file": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "no-file": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "backup": (9, "state folder, database, port or secret cannot be used"),
    "package": (9, "state folder, database, port or secret cannot be used"),
    "edition": (5, "refused, or held back by a gate"),
    "taken": (5, "refused, or held back by a gate"),
    "by-hand": (8, "the site file, a map or a profile has errors, or cannot be read"),
    "store": (9, "state folder, database, port or secret cannot be used"),
    "folder": (9, "state folder, database, port or secret cannot be used"),
    "held": (9, "state folder, database, port or secret cannot be used"),
    "port": (9, "state folder, database, port or secret cannot be used"),
    "not-recorded": (10, "not recorded, or too busy: try again"),
    "wait": (10, "not recorded, or too busy: try again"),
    "busy": (10, "not recorded, or too busy: try again"),
    "usage": (2, "wrong use: a value, an option or a phrase"),
    "bad-value": (2, "wrong use: a value, an option or a phrase"),
    "bad-phrase": (2, "wrong use: a value, an option or a phrase"),
    "asks-back": (2, "wrong use: a value, an option or a phrase"),
}
OTHER = 1
INTERRUPTED = 130


def code(name: str) -> int:
    """The exit code of an error's code."""
    return CODES.get(name, (OTHER, ""))[0]
