"""Short forms of the campaign (`make campaign` runs the whole)."""

from concurrent.futures import ThreadPoolExecutor

import pytest

from .campaign import disks, files, kills, long_runs, names, odd_meshes, settings, stops, walk

pytestmark = pytest.mark.deep


def nothing_wrong(outcome):
    assert outcome.failures == []
    assert outcome.lost == []
    return outcome


def test_kills(tmp_path, monkeypatch):
    monkeypatch.setattr(kills, "STAGES", ("baking", "handing off"))
    nothing_wrong(kills.run(tmp_path, tries=1, seed=11))


def test_a_killed_command_line_bake(tmp_path):
    nothing_wrong(kills.run_command(tmp_path, tries=1, seed=5))


def test_a_full_disk(tmp_path, monkeypatch):
    monkeypatch.setattr(disks, "STAGES", ("bake",))
    if nothing_wrong(disks.run(tmp_path, rounds=1)).notes:
        pytest.skip("no disk can be mounted here")


def test_changes_at_once(tmp_path):
    nothing_wrong(long_runs.run_tabs(tmp_path, 10))


def test_proofs_in_a_row(tmp_path):
    nothing_wrong(long_runs.run_proofs(tmp_path, 6))


def test_mutated_files():
    nothing_wrong(files.run(300, seed=3))


def test_maps_with_settings_at_random():
    nothing_wrong(settings.run(12, seed=7))


def test_a_random_walk(tmp_path):
    nothing_wrong(walk.run(tmp_path, 30, seed=4))


def test_stops_and_little_memory(tmp_path, monkeypatch):
    monkeypatch.setattr(stops, "LIMITS", (900,))
    nothing_wrong(stops.run(tmp_path, 2.0, seed=1))


def test_odd_meshes(tmp_path):
    nothing_wrong(odd_meshes.run(tmp_path, 20_000, 50_000))


def test_hostile_names(tmp_path):
    with ThreadPoolExecutor(1) as thread:  # the browser of other tests may hold this one
        nothing_wrong(thread.submit(names.run, tmp_path, (" ".join(names.NAMES[:2]),)).result())
