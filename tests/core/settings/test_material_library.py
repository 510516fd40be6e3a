"""The material library: kept, carried, assigned, and what the ID map and the layered file make of it."""

import zipfile
from dataclasses import replace
from xml.etree import ElementTree

import cv2
import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings import material_library
from inkwell_cast.core.settings.maps import Ids
from inkwell_cast.core.settings.material_library import Library, Material, read_library
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane

BRASS = Material(name="Brass", id_color="#ff8000", colors={"Colour": "#c0a040", "Roughness": "#404040"})
GLASS = Material(name="Glass", colors={"Colour": "#2040ff"})


def halves():
    """A sculpt of two objects, left and right, of one material; the right one of two parts, below and above."""

    def part(name, low, high, bottom=0.0, top=1.0):
        across, up = high - low, top - bottom
        made = grid_mesh(4, 4, lambda u, v: (low + across * u, bottom + up * v, np.full_like(u, 0.1)), name)
        return replace(made, material_names=("clay",))

    right = merge([part("right", 0.5, 1, 0, 0.49), part("right", 0.5, 1, 0.51, 1)], "right")
    right = replace(right, objects=np.zeros(len(right.triangles), np.int32), object_names=("right",))
    return merge([part("left", 0, 0.5), right], "sculpt")


def made(library, by="library", tmp_path=None, **ids):
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.1),
        sheet=Sheet(width=32, height=32, samples=1, padding="fill"),
        output=Output(maps=["ids"]),
        ids=Ids(by=by, **ids),
        library=library,
    )
    return bake(recipe, BakeMeshes([plane()], [halves()]))


def colors_at(result):
    """Colours in the middle of the left half, and of the right one below and above."""
    image = result.images["ids"]
    return ["#{:02x}{:02x}{:02x}".format(*image[y, x]) for x, y in ((8, 16), (24, 24), (24, 8))]


def test_a_part_counts_before_its_object_and_an_object_before_its_material():
    library = Library(channels=["Colour"], materials=[BRASS, GLASS, Material(name="Felt", id_color="#00ff00")])
    for kind, name, material in (
        ("material", "clay", "Felt"),
        ("object", "right", "Brass"),
        ("part", "right 2", "Glass"),
    ):
        library = material_library.assign(library, kind, name, material)
    result = made(library)
    legend = result.sheets[0].facts["ids"]["legend"]
    assert set(legend) == {"Felt", "Brass", "Glass"}
    left, below, above = colors_at(result)
    assert (left, below) == ("#00ff00", "#ff8000")
    assert above == legend["Glass"]
    unassigned = made(Library(materials=[BRASS]))
    assert list(unassigned.sheets[0].facts["ids"]["legend"]) == ["clay"]


def test_an_assignment_casts_no_ray():
    warm, meshes = Warm(), BakeMeshes([plane()], [halves()])
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.1),
        sheet=Sheet(width=32, height=32, samples=1),
        output=Output(maps=["ids"]),
        ids=Ids(by="library"),
    )
    bake(recipe, meshes, warm=warm)
    given = material_library.assign(Library(materials=[BRASS]), "object", "left", "Brass")
    again = bake(recipe.model_copy(update={"library": given}), meshes, warm=warm)
    assert "casting rays" not in again.seconds
    assert colors_at(again)[0] == "#ff8000"


@pytest.mark.deep
def test_the_layered_file_has_a_folder_a_channel_with_a_masked_layer_a_material(tmp_path):
    library = Library(channels=["Colour", "Roughness"], materials=[BRASS, GLASS])
    library = material_library.assign(
        material_library.assign(library, "object", "left", "Brass"), "part", "right 1", "Glass"
    )
    result = made(library, layers=True, psd=True)
    save(result, tmp_path)
    with zipfile.ZipFile(tmp_path / "layers.ora") as archive:
        root = ElementTree.fromstring(archive.read("stack.xml"))
        folders = {s.get("name"): [layer.get("name") for layer in s] for s in root.iterfind("./stack/stack")}
        assert set(folders["Colour"]) == {"Brass", "Glass", "clay"}
        assert folders["Roughness"] == ["Brass"]  # glass has none
        place = next(
            layer.get("src")
            for s in root.iterfind("./stack/stack")
            for layer in s
            if (s.get("name"), layer.get("name")) == ("Roughness", "Brass")
        )
        picture = cv2.imdecode(np.frombuffer(archive.read(place), np.uint8), cv2.IMREAD_UNCHANGED)
    assert picture[16, 8].tolist() == [64, 64, 64, 255]
    assert picture[16, 24, 3] == 0


def test_a_library_is_changed_as_a_whole():
    library = material_library.with_material(Library(), "Brass")
    library = material_library.with_channels(library, ["Colour", "Metal", "Colour"])
    assert (library.channels, library.materials[0].colors) == (
        ["Colour", "Metal"],
        {"Colour": "#808080", "Metal": "#808080"},
    )
    library = material_library.assign(library, "object", "left", "Brass")
    library = material_library.changed(library, "Brass", name="Gold")
    assert library.of("object") == {"left": "Gold"}
    assert read_library(library.portable(), "x") == library.model_copy(update={"assigned": []})
    joined = material_library.join(library, Library(channels=["Glow"], materials=[Material(name="Gold"), GLASS]))
    assert [m.name for m in joined.materials] == ["Gold", "Glass"]
    assert joined.channels == ["Colour", "Metal", "Glow"]
    assert material_library.without(joined, "Gold").assigned == []
    for broken in (
        lambda: material_library.with_material(library, "Gold"),
        lambda: material_library.changed(library, "None such"),
        lambda: read_library('{"version": 3}', "x.json"),
        lambda: read_library("[", "x.json"),
        lambda: read_library('{"materials": [{"name": "a", "colors": {"b": "red"}}]}', "x.json"),
    ):
        with pytest.raises(InputProblem):
            broken()


def test_a_library_is_made_of_what_the_sculpt_has():
    found = [("material", "brass", "#b08d3c"), ("material", "glass", "#203040"), ("object", "lid", "#808080")]
    made = material_library.with_found(Library(), found)
    assert [(m.name, m.colors["Colour"]) for m in made.materials] == [(name, color) for _, name, color in found]
    assert made.of("material") == {"brass": "brass", "glass": "glass"}
    assert made.of("object") == {"lid": "lid"}
    assert material_library.with_found(made, found) == made  # what has one is left alone
    own = material_library.assign(material_library.with_material(Library(), "gold"), "material", "brass", "gold")
    assert material_library.with_found(own, found[:1]) == own
