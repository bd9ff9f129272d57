"""The errors Urst raises on purpose.

UrstError
├── BadValue (ValueError)      a document, setting or argument is out of range
├── BadMesh (ValueError)       a mesh cannot be used as it is
├── BadFile (ValueError)       a file cannot be read
├── Conflict                   somebody else has changed the same in the meantime
├── CacheDamaged (OSError)     a cached frame fails its checksum
├── StoreFull (OSError)        there is no room for the next frame
├── StoreFailed (OSError)      the disk does not take what is to be written
├── SolverFailed (ArithmeticError)  a solver met a non-finite or exploding quantity
├── Stopped                    work was stopped on request
└── Yielded (Stopped)          work gave way to more urgent work, and goes on later

Every message is one sentence a user can act on: what, expected, got, way out.
"""


class UrstError(Exception):
    """Root of all errors raised on purpose."""


class BadValue(UrstError, ValueError):
    """A value is outside what it may be."""


class BadMesh(UrstError, ValueError):
    """A mesh cannot take part as it is."""


class BadFile(UrstError, ValueError):
    """A file is not what its name says, or is cut short."""


class Conflict(UrstError):
    """What was to be changed is not any more as the one who changes it saw it."""


class CacheDamaged(UrstError, OSError):
    """A cached frame does not match its checksum."""


class StoreFull(UrstError, OSError):
    """The disk has no room for what is to be written."""


class StoreFailed(UrstError, OSError):
    """The disk does not take what is to be written, for another reason."""


class SolverFailed(UrstError, ArithmeticError):
    """A solver's state stopped being finite or plausible."""


class Stopped(UrstError):
    """The work was stopped on request; what is done is kept."""


class Yielded(Stopped):
    """The work gave way to more urgent work; what is done is kept, and it goes on later."""
