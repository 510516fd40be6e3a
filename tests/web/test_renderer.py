"""The handed-off GLB in an independent renderer: its normals are those of the sculpt, on every demo piece.

What a low shows at a pixel is what lies along the ray that its texel was cast with, not along the view; where the sculpt
stands off the low the two are different points of it. So every block counts where both surfaces are seen at the same
place, within 0.2 % of half the diagonal, and wherever both are seen the map must do better than no map.
"""

import contextlib
import functools
import http.server
import json
import pathlib
import threading

import numpy as np
import pytest
from playwright.sync_api import Page

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.handoff.bake_on_disk import Finished
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.handoff import Handoff
from inkwell_cast.core.settings.output import Output
from inkwell_cast.demo.pieces import pieces

TESTS = pathlib.Path(__file__).parent.parent
SIDES = [[1, 1, 1], [-1, 0.6, -0.8]]
SAME_PLACE = 0.002
SOUND = [made for made in pieces() if "Troubled" not in made.title]


class _Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *given):
        pass


@contextlib.contextmanager
def served(folder):
    """The address of a folder's files."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(_Quiet, directory=str(folder)))
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


def hand_over(demo, folder):
    """The GLB of a demo piece's handoff and its whole sculpt, as files of a folder."""
    meshes = BakeMeshes([], [], [read_mesh(path) for path in demo.write(folder)])
    maps = ["normal", "displacement"] if "displacement" in demo.recipe.output.maps else ["normal"]
    sheet = demo.recipe.sheet.model_copy(update={"samples": 4, "adaptive": False, "width": 1024, "height": 1024})
    division = demo.recipe.subdivision.model_copy(update={"levels": 3})  # a lighter GLB
    changes = {"output": Output(maps=maps), "sheet": sheet, "subdivision": division}
    made = bake(demo.recipe.model_copy(update=changes), meshes)
    saved = save(made, folder / "bake", None, folder / "bake")
    finished = Finished.of_folder("piece", saved, folder / "bake", folder / "bake")
    hand_off(finished, made.assembly, made.warm, Handoff(obj=False, cage=False), folder / "handed")
    write_mesh(folder / "sculpt.glb", made.high)


@pytest.mark.deep
@pytest.mark.parametrize("demo", SOUND, ids=lambda demo: demo.title)
def test_another_renderer_shows_the_sculpt_s_normals(page: Page, tmp_path, demo):
    hand_over(demo, tmp_path)
    (tmp_path / "three").symlink_to(TESTS / "node_modules" / "three")
    (tmp_path / "renderer.html").symlink_to(TESTS / "web" / "renderer.html")
    with served(tmp_path) as address:
        page.goto(f"{address}/renderer.html")
        page.wait_for_function("window.ready")
        found = page.evaluate(f"compare('/handed/piece_low.glb', '/sculpt.glb', {json.dumps(SIDES)})")
    worn, bare, apart = (np.array(found[name]) for name in ("worn", "bare", "apart"))
    here = apart < SAME_PLACE
    assert here.sum() > 3000
    assert np.median(worn[here]) < 1, np.percentile(worn[here], (50, 75, 90))
    assert np.median(worn) < 0.5 * np.median(bare)
