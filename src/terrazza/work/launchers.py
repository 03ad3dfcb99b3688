"""A recipe to hand on: the TOML with launchers that run it by a double click, or on what is dropped onto
them, on Windows, macOS and Linux.
"""

import io
import os
import shlex
import sys
import zipfile

SHELL = """#!/bin/sh
# Runs {toml} on what is dropped onto this file, or on the folder in which it lies.
# Results come into the folder “results” beside it.
here=$(CDPATH= cd -- "$(dirname -- "$0")" && pwd) || exit 1
if [ "$#" -eq 0 ]; then set -- "$here"; fi
if [ -n "$TERRAZZA" ]; then set -- "$TERRAZZA" run "$here/{toml}" "$@"
elif command -v terrazza >/dev/null 2>&1; then set -- terrazza run "$here/{toml}" "$@"
elif [ -x {python} ]; then set -- {python} -m terrazza.cli.main run "$here/{toml}" "$@"
else
  echo "Terrazza is not installed here. Install it, or say in TERRAZZA where its command is."
  [ -t 0 ] && read -r _
  exit 1
fi
"$@" --workspace "$here/workspace" --out "$here/results" --figures "$here/results/figures.json"
state=$?
if [ "$state" -eq 0 ]; then echo "Done: the results are in $here/results"; fi
if [ -t 0 ]; then printf 'Press Enter to close. '; read -r _; fi
exit "$state"
"""
BATCH = """@echo off
rem Runs {toml} on what is dropped onto this file, or on the folder in which it lies.
rem Results come into the folder "results" beside it.
setlocal
chcp 65001 >nul
set "here=%~dp0"
set "here=%here:~0,-1%"
set what=%*
if "%~1"=="" set what="%here%"
if not defined TERRAZZA set "TERRAZZA=terrazza"
where "%TERRAZZA%" >nul 2>nul
if errorlevel 1 (
  echo Terrazza is not installed here. Install it, or say in TERRAZZA where its command is.
  pause
  exit /b 1
)
"%TERRAZZA%" run "%here%\\{toml}" %what% --workspace "%here%\\workspace" --out "%here%\\results" ^
  --figures "%here%\\results\\figures.json"
set state=%errorlevel%
if "%state%"=="0" echo Done: the results are in %here%\\results
pause
exit /b %state%
"""
README = """{toml} runs again what was done on “{title}”.

Lay these files into a folder of scans and open the one for your system:
  run-recipe.cmd      Windows
  run-recipe.command  macOS
  run-recipe.sh       Linux
or drop scans, or a folder of them, onto it.  The results come into “results”.
A control file that the recipe names must lie beside the scans.
"""
TOML = "recipe.toml"


def files(recipe: str, title: str) -> dict[str, tuple[bytes, bool]]:
    """Content of each file by name, and whether it can be run."""
    words = {"toml": TOML, "title": title, "python": shlex.quote(sys.executable)}
    shell = SHELL.format(**words).encode()
    return {
        TOML: (recipe.encode(), False),
        "run-recipe.sh": (shell, True),
        "run-recipe.command": (shell, True),
        "run-recipe.cmd": (BATCH.format(**words).replace("\n", "\r\n").encode(), True),
        "read-me.md": (README.format(**words).encode(), False),
    }


def zipped(recipe: str, title: str) -> bytes:
    """All in one archive that keeps what can be run runnable."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, (data, runs) in files(recipe, title).items():
            about = zipfile.ZipInfo(name)
            about.external_attr = (0o100755 if runs else 0o100644) << 16
            about.create_system = 3
            archive.writestr(about, data, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def lay(recipe: str, title: str, folder: str) -> list[str]:
    """Write all into a folder; their paths."""
    os.makedirs(folder, exist_ok=True)
    paths = []
    for name, (data, runs) in files(recipe, title).items():
        path = os.path.join(folder, name)
        with open(path, "wb") as file:
            file.write(data)
        if runs:
            os.chmod(path, 0o755)
        paths.append(path)
    return paths
