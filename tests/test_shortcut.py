import os
import subprocess

import pytest

from docs.tools.wheels import locked_for
from inkwell_cast.cli import main
from inkwell_cast.cli.shortcut import written


@pytest.mark.parametrize(
    ("system", "name"),
    [("linux", "inkwell-cast.desktop"), ("darwin", "Inkwell Cast.command"), ("win32", "Inkwell Cast.cmd")],
)
def test_a_double_click_starts_the_program_on_every_system(tmp_path, system, name):
    path = written(tmp_path, system, "/a folder/python")
    assert path.name == name
    text = path.read_text()
    assert "-m inkwell_cast serve --open" in text
    assert '"/a folder/python"' in text or "'/a folder/python'" in text
    assert system == "win32" or os.access(path, os.X_OK)


def test_the_script_of_the_mac_runs_what_it_names(tmp_path):
    python = tmp_path / "my python"
    python.write_text('#!/bin/sh\necho "$@"\n')
    python.chmod(0o755)
    path = written(tmp_path, "darwin", str(python))
    done = subprocess.run([str(path)], capture_output=True, text=True, check=True)
    assert done.stdout == "-m inkwell_cast serve --open\n"


def test_a_folder_that_cannot_be_written_to_is_named(tmp_path, capsys):
    assert main(["shortcut", "--into", str(tmp_path / "none")]) == 1
    assert str(tmp_path / "none") in capsys.readouterr().out
    assert main(["shortcut", "--into", str(tmp_path)]) == 0


def test_the_lock_is_read_for_another_python_than_this_one():
    lock = 'a==1 ; python_version < "3.12" \\\n    --hash=sha256:aa\na==2 ; python_version >= "3.12" \\\n    --hash=sha256:bb\n'
    assert locked_for(lock, "win_amd64", "3.11") == "a==1 \\\n    --hash=sha256:aa\n"
    assert locked_for(lock, "win_amd64", "3.13") == "a==2 \\\n    --hash=sha256:bb\n"
