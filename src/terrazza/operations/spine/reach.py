"""Files outside of a job: the one place that says which may be read and written."""

import os
import time

from terrazza.errors import NotFound, ParamsError
from terrazza.operations.spine import sums

PAGE = "page"
DEMO_FOLDER = "demo-field"


class Reach:
    """What a job knows of files beside its own; mixed into ``Job``, whose ``entry``, folders and ``put`` it
    uses.
    """

    @property
    def confined(self) -> bool:
        """Whether this run was asked for by the page, which reaches the job and the folders of the settings;
        the command line has its user's rights.
        """
        return self.entry is not None and self.entry.who == PAGE

    def reaches(self, path: str) -> bool:
        """Whether a path, links followed, lies in the job or in a folder that the page may read."""
        real = os.path.realpath(path)
        roots = [self.folder, os.path.join(self.workspace, DEMO_FOLDER), *self.may_read]
        return any(real.startswith(os.path.realpath(root) + os.sep) for root in roots)

    def need_reach(self, role: str, path: str) -> None:
        """ParamsError where the page may not read (or write) what a parameter of this role names."""
        if role == "write":
            home = self.subfolder("deliverables")
            if os.path.isabs(path) or not os.path.realpath(os.path.join(home, path or "-")).startswith(
                os.path.realpath(home) + os.sep
            ):
                raise ParamsError(
                    "Files written from the page stay in the job's deliverables.",
                    "Give a plain file name; the command line writes anywhere.",
                )
        elif os.path.isabs(path) and not self.reaches(path):
            raise ParamsError(
                f"“{path}” lies outside the folders that the page may read.",
                "Bring it into the job's inbox, or name its folder in TERRAZZA_FOLDERS.",
            )

    def input(self, name: str, what: str, beside: tuple[str, ...] = ()) -> str:
        """The real path of a file that a parameter names: as it is, or relative to the recipe, the inputs,
        the inbox, or a folder ``beside``.

        NotFound where it is not there; ParamsError where the page may not read it.
        """
        if "\0" in name or not name.strip():
            raise ParamsError(f"{what} “{name!r}” is no file name.", "Choose a file.")
        folders = [
            *self.search,
            *(os.path.dirname(i) for i in self.inputs),
            self.subfolder("inbox"),
            *beside,
            *([] if self.confined else ["."]),
        ]
        tries = [name] if os.path.isabs(name) else [os.path.join(folder, name) for folder in folders]
        for path in tries:
            if self.confined and not self.reaches(path):
                self.need_reach("read", name)
                continue
            if os.path.exists(path):
                return os.path.realpath(path)
        raise NotFound(
            f"{what} “{name}” is not there.",
            "Give its full path, one relative to the recipe or the input files, or drop it into the inbox.",
        )

    def output(self, path: str, ending: str) -> str:
        """Where a deliverable goes: relative paths land in the job's deliverables, or in the folder the
        command line named.

        ParamsError where the page asks for a place outside the deliverables, or the name leads there by a
        link.
        """
        if "\0" in path or not os.path.basename(path) or len(os.path.basename(path).encode()) > 200:
            raise ParamsError(
                f"“{path[:80]!r}” is no file name that can be written.", "Give a plain file name."
            )
        if not path.lower().endswith(ending):
            path += ending
        home = self.out or self.subfolder("deliverables")
        full = path if os.path.isabs(path) else os.path.join(home, path)
        if self.confined:
            self.need_reach("write", path)
        os.makedirs(os.path.dirname(full), exist_ok=True)
        return full

    def own_file(self, folder: str, name: str) -> str:
        """Path of one of the job's own files; NotFound where a record names something that is none."""
        if (
            not name
            or name != os.path.basename(name)
            or name in {".", ".."}
            or os.path.islink(os.path.join(self.folder, folder, name))
        ):
            raise NotFound(f"“{name}” is no file of this job.", "Run “terrazza check”.")
        return os.path.join(self.folder, folder, name)

    def deliver(self, path: str, **about) -> None:
        """Enter a finished file into the list of deliverables, and its checksum into the list beside it."""
        about = {"bytes": os.path.getsize(path)} | about
        about |= {"path": os.path.abspath(path), "made": time.time()}
        about["sha256"] = sums.enlist(path)
        about |= {"entry": self.entry.number, "operation": self.entry.operation}
        self.put("deliverable", os.path.abspath(path), about)
