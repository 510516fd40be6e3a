"""How given meshes are taken: roles that no name gives by a guess that is told, and all of them near the origin."""

from collections.abc import Callable

from ..mesh.mesh import Mesh
from ..settings.editing import set_file
from ..settings.pairing import Pairing, role_by_names
from ..settings.recipe import Recipe
from ..settings.role_guesses import MeshFacts, guess_roles
from .near_origin import box_in_file, near_origin
from .piece import BakeMeshes

Tell = Callable[[str], None]


def as_given(recipe: Recipe, meshes: BakeMeshes, tell: Tell = lambda words: None) -> Recipe:
    """The recipe with a role for each file that has none, and with what takes them near the origin.

    `tell` hears what was guessed, and why.
    """
    found = guess_roles(
        {
            name: _facts(name, mesh, recipe.file(name).role or role or "", recipe.pairing)
            for name, mesh, role in meshes.distinct()
            if not any(key.startswith(f"{name}/") and put.role for key, put in recipe.pairing.placed.items())
        }
    )
    for name, guess in found.items():
        recipe = set_file(recipe, name, role=guess.role)
        tell(f"{name} is taken as {guess.role}, by a guess: {guess.why}.")
    return near_origin(recipe, meshes)


def _facts(name: str, mesh: Mesh, given: str, pairing: Pairing) -> MeshFacts:
    role = given or role_by_names(name.rpartition(".")[0] or name, list(mesh.object_names), pairing)
    return MeshFacts(len(mesh.triangles), bool(mesh.uvs), box_in_file(mesh), role)
