"""Proves that the locked set can be had as wheels for every system and Python that the README names: `make wheels`."""

import pathlib
import subprocess
import sys
import tempfile

from packaging.requirements import Requirement

ROOT = pathlib.Path(__file__).resolve().parents[2]
SYSTEMS = {"win_amd64": "win32", "macosx_14_0_arm64": "darwin", "manylinux_2_28_x86_64": "linux"}
PYTHONS = ("3.11", "3.12", "3.13")
OLDER = {"manylinux_2_28_x86_64": ("manylinux_2_27_x86_64", "manylinux_2_17_x86_64", "manylinux2014_x86_64")}


def locked_for(text: str, system: str, version: str) -> str:
    """The lines of a lock file that count for a system and a Python: `pip download` asks for its own."""
    there = {"python_version": version, "python_full_version": f"{version}.0", "sys_platform": SYSTEMS[system]}
    kept = []
    for entry in text.replace(" \\\n", "\0").splitlines():
        line = entry.partition("\0")[0]
        if line.startswith("#") or not line.strip():
            continue
        wanted = Requirement(line)
        if wanted.marker is None or wanted.marker.evaluate(there):
            wanted.marker = None
            kept.append("\0".join([str(wanted), *entry.split("\0")[1:]]))
    return "\n".join(kept).replace("\0", " \\\n") + "\n"


def main() -> None:
    lock = (ROOT / "requirements.lock").read_text()
    for system in SYSTEMS:
        for version in PYTHONS:
            folder = ROOT / "build" / "wheels" / f"{system}-{version}"
            with tempfile.NamedTemporaryFile("w", suffix=".txt") as asked:
                asked.write(locked_for(lock, system, version))
                asked.flush()
                command = [
                    sys.executable,
                    "-m",
                    "pip",
                    "download",
                    "-q",
                    "--disable-pip-version-check",
                    "--no-deps",
                    "--only-binary=:all:",
                    "--python-version",
                    version,
                    "-r",
                    asked.name,
                    "-d",
                    str(folder),
                ]
                for name in (system, *OLDER.get(system, ())):
                    command += ["--platform", name]
                done = subprocess.run(command, stderr=subprocess.PIPE, text=True)
            errors = [line for line in done.stderr.splitlines() if not line.startswith("WARNING")]
            if done.returncode:
                sys.exit(f"{system}, Python {version}: " + "\n".join(errors))
            print(f"{system}, Python {version}: {len(list(folder.iterdir()))} wheels", flush=True)


if __name__ == "__main__":
    main()
