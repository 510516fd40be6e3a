from ...fuzz import run


def test_damaged_files_give_a_mesh_or_a_clear_error():
    assert run(60, seed=7) == []
