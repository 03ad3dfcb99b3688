"""Every error that Terrazza raises on purpose.

    TerrazzaError            message says what is wrong and where; ``hint`` says what to do
    ├── InputError           a file or value from outside cannot be used
    ├── ParamsError          a parameter is out of its range, unknown or missing
    ├── StateError           the job is not yet (or no longer) in a state that allows this
    ├── BusyError            somebody else is working on the job right now
    ├── NotFound             no such job, scan, file or operation
    └── Cancelled            the surveyor cancelled; not a failure
"""


class TerrazzaError(Exception):
    """Base of all; ``str(error)`` is one sentence for the surveyor.

    ``hint`` is a second sentence that says what to do about it (may be empty).
    """

    status = 400

    def __init__(self, message: str, hint: str = ""):
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()

    def __reduce__(self):
        return type(self), (self.message, self.hint)


class InputError(TerrazzaError):
    status = 422


class ParamsError(TerrazzaError):
    status = 422


class StateError(TerrazzaError):
    status = 409


class BusyError(TerrazzaError):
    status = 409


class NotFound(TerrazzaError):
    status = 404


class Cancelled(TerrazzaError):
    def __init__(self, message: str = "Cancelled.", hint: str = ""):
        super().__init__(message, hint)
