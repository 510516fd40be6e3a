"""Names to pairs: which highs a low receives from, by suffix or by a word of its own, changed by hand."""

import re
from dataclasses import dataclass, field, replace
from typing import Annotated, Literal, cast

from pydantic import Field, field_validator

from ..base.setting import SettingsGroup, setting
from .files import FileSettings, Role
from .lods import lod_of, lod_of_object


class Placing(SettingsGroup):
    """Where an object was put by hand; an empty field leaves it to the name."""

    pair: str = Field(default="", max_length=200)
    role: Literal["", "low", "high", "float", "cage", "self"] = ""


class Pairing(SettingsGroup):
    """Which highs a low receives from: by name, changed by hand."""

    low: Annotated[str, setting("Low", "What ends the name of a low.", min_length=1, max_length=80)] = (
        "_low, _lowpoly, _lp"
    )
    high: Annotated[
        str, setting("High", "What a high's name has; anything may follow.", min_length=1, max_length=80)
    ] = "_high, _highpoly, _hp"
    cage: Annotated[str, setting("Cage", "What ends the name of a cage.", min_length=1, max_length=80)] = "_cage"
    float: Annotated[
        str,
        setting("Floater", "What a floating detail's name has; anything may follow.", min_length=1, max_length=80),
    ] = "_float, _floater"
    together: Annotated[bool, setting("One pair", "Every low receives from every high, whatever the names.")] = False
    alone: Annotated[
        bool, setting("Lows on their own", "A low that has no high is baked from itself, whatever its reach.")
    ] = False
    level: Annotated[
        str,
        setting(
            "Level of detail",
            "Which level to bake, as names say it: 1 for crate_LOD1_low; empty for all.",
            pattern=r"^\d{0,2}$",
        ),
    ] = ""
    placed: dict[str, Placing] = Field(default_factory=dict, description="By hand, by object (file/object).")

    @field_validator("level", mode="before")
    @classmethod
    def _as_typed(cls, given: object) -> object:
        return str(given) if isinstance(given, int) and not isinstance(given, bool) else given

    @field_validator("low", "high", "cage", "float")
    @classmethod
    def _no_suffix_is_empty(cls, given: str) -> str:
        words = [word.strip() for word in given.split(",")]
        if not all(words):
            raise ValueError("an empty suffix would be in every name; give such as “_low, _lp”")
        return ", ".join(words)

    def suffixes(self, role: str) -> list[str]:
        """The suffixes of a role in lower case, the longest first."""
        return sorted((word.strip().lower() for word in str(getattr(self, role)).split(",")), key=len, reverse=True)

    def first(self, role: str) -> str:
        """The suffix of a role that is named to the user."""
        return str(getattr(self, role)).partition(",")[0]


ENDS = ("low", "cage")
LETTERS = 3  # with fewer of them a suffix ends its word
ALL = "everything"  # the pair's name where there is no stem


@dataclass(frozen=True, slots=True)
class Part:
    """One object of one file."""

    file: str
    name: str

    @property
    def key(self) -> str:
        return f"{self.file}/{self.name}"


@dataclass(slots=True)
class Pair:
    """Lows, and the highs and floaters that they alone receive from; `sources` are lows that are their own source.

    by_itself says that they are so for want of a high.
    """

    name: str
    lows: list[Part] = field(default_factory=list)
    highs: list[Part] = field(default_factory=list)
    floats: list[Part] = field(default_factory=list)
    cages: list[Part] = field(default_factory=list)
    sources: list[Part] = field(default_factory=list)
    by_itself: bool = False

    @property
    def giving(self) -> list[Part]:
        """All that rays of this pair can strike."""
        return [*self.highs, *self.floats, *self.sources]

    @property
    def members(self) -> list[tuple[str, Part]]:
        """Every part once, with its role."""
        roles = (("high", self.highs), ("float", self.floats), ("cage", self.cages))
        sources = {part.key for part in self.sources}
        lows = [("self" if part.key in sources else "low", part) for part in self.lows]
        return lows + [(role, part) for role, parts in roles for part in parts]


@dataclass(frozen=True, slots=True)
class Alone:
    """A part that takes no part in the bake, and why."""

    part: Part
    role: str
    reason: str


@dataclass(frozen=True, slots=True)
class Paired:
    """`elsewhere` are parts of other levels of detail than the one that is baked."""

    pairs: list[Pair]
    alone: list[Alone]
    elsewhere: list[Part] = field(default_factory=list)

    def pair_of(self, key: str) -> Pair | None:
        return next((p for p in self.pairs for _, part in p.members if part.key == key), None)


@dataclass(frozen=True, slots=True)
class _Reading:
    """Role and stem of a name; by_word where no suffix says so, but a word of its own, as in `cage_bell`."""

    role: str
    stem: str
    by_word: bool = False


def read_name(name: str, pairing: Pairing) -> list[_Reading]:
    """Every way to read a name by its suffix, the longest stem first, or else by its words; empty for no role."""
    return _by_suffix(name, pairing) or _by_word(name, pairing)


def role_by_names(file: str, parts: list[str], pairing: Pairing) -> str:
    """The role that a file's name without its suffix, or that of its first named part gives; "" for none."""
    if _is_cage_of_lows(file, parts, pairing):
        return "cage"
    found = [read for name in (file, *parts) if (read := _by_suffix(name, pairing))]
    found += [read for name in (file, *parts) if (read := _by_word(name, pairing))]
    return found[0][0].role if found else ""


def _is_cage_of_lows(file: str, parts: list[str], pairing: Pairing) -> bool:
    """Whether a file is called a cage, and its parts after the lows that they were copied from.

    What is itself called a cage, such as bird_cage_low, is no cage of one.
    """
    if not any(read.role == "cage" for read in read_name(file, pairing)):
        return False
    readings = [_by_suffix(part, pairing) for part in parts]
    lows = [read[0] for read in readings if read and read[0].role == "low"]
    return bool(lows) and len(lows) == len(parts) and not any(_says_cage(low.stem, pairing) for low in lows)


def _says_cage(stem: str, pairing: Pairing) -> bool:
    return any(read.role == "cage" for read in read_name(stem, pairing))


def _by_suffix(name: str, pairing: Pairing) -> list[_Reading]:
    lower, readings = name.lower(), list[_Reading]()
    for role in ENDS:
        for suffix in pairing.suffixes(role):
            match = re.search(rf"{re.escape(suffix)}(?:[._ ]?\d+)?$", lower)
            if match:
                readings.append(_Reading(role, name[: match.start()]))
                break
    if readings:
        return readings[:1]
    for role in ("high", "float"):
        for suffix in pairing.suffixes(role):
            after = r"(?![a-z])" if len(suffix.strip("._- ")) < LETTERS else ""  # two letters begin many words
            found = re.finditer(rf"(?={re.escape(suffix)}{after})", lower)
            readings += [_Reading(role, name[: match.start()]) for match in found]
    return sorted(dict.fromkeys(readings), key=lambda r: -len(r.stem))


def _by_word(name: str, pairing: Pairing) -> list[_Reading]:
    """Readings of a name in which a role's word stands alone, as in `lp_bell`, `HP-bell`, `bellCage` or `low`.

    Stems are the name without the word, what stands before and after it, and the whole of it, which may be a thing's
    own name (`low_wall`). Of two words a cage's or floater's counts, then the later one.
    """
    found = []
    for rank, role in enumerate(("high", "low", "float", "cage")):
        for suffix in pairing.suffixes(role):
            word = suffix.strip("._- ")
            found += [
                (max(rank, 1), m.start(), m.end(), role) for m in re.finditer(re.escape(word), name, re.I) if word
            ]
    found = [each for each in found if _stands_alone(name, *each[1:3])]
    if not found:
        return []
    _, first, end, role = max(found)
    before, after = name[:first].rstrip("._- "), name[end:].lstrip("._- ")
    joint = name[first - 1] if before and after and not name[first - 1].isalnum() else ""
    stems = [
        before + joint + after,
        *([before, after] if before and after else []),
        *([name] if before or after else []),
    ]
    return [_Reading(role, stem, True) for stem in stems]


def _stands_alone(name: str, first: int, end: int) -> bool:
    """Whether a word of a name is none of a longer one; capitals begin words, and a number may follow."""
    before, after = name[first - 1 : first], name[end : end + 1]
    begins = not before.isalnum() or (name[first].isupper() and not before.isupper())
    return begins and (not after.isalpha() or (after.isupper() and name[end - 1].islower()))


def pair_up(parts: list[Part], pairing: Pairing, files: dict[str, FileSettings] | None = None) -> Paired:
    """Sort parts into pairs, in the order of the names first seen."""
    files = files or {}
    elsewhere = [part for part in parts if _of_another_lod(part, pairing)]
    parts = [part for part in parts if part not in elsewhere]
    readings = {part: _readings(part, pairing, files.get(part.file, FileSettings())) for part in parts}
    for file in {part.file for part in parts}:
        own = [part for part in parts if part.file == file]
        given = files.get(file, FileSettings()).role or any(pairing.placed.get(p.key, Placing()).role for p in own)
        if not given and _is_cage_of_lows(file.rpartition(".")[0] or file, [part.name for part in own], pairing):
            readings |= {part: [replace(read, role="cage") for read in readings[part]] for part in own}
    giving = {r.stem.lower() for part in parts for r in readings[part] if r.role in ("high", "float")}
    stems = {_received(readings[part], giving) for part in parts} - {None}
    pairs: dict[str, Pair] = {}
    alone: list[Alone] = []
    for part in parts:
        options = readings[part]
        if not options:
            suffixes = ", ".join(pairing.first(r) for r in ("low", "high", "float", "cage"))
            alone.append(Alone(part, "", f"neither its name nor its file's has one of {suffixes}"))
            continue
        chosen = next((r for r in options if r.stem.lower() in stems), options[0 if options[0].by_word else -1])
        placed = pairing.placed.get(part.key, Placing())
        name = placed.pair or (ALL if pairing.together else chosen.stem or ALL)
        pair = pairs.setdefault(name.lower(), Pair(name))
        role = cast(Role, chosen.role)
        if role == "self":
            pair.sources.append(part)
        getattr(pair, {"self": "lows"}.get(role, role + "s")).append(part)
    _join_given(pairs, pairing, files)
    _join_cages(pairs, pairing, files)
    kept = []
    for pair in pairs.values():
        if pairing.alone and not pair.giving:
            pair.sources, pair.by_itself = [*pair.lows], True
        if pair.lows and pair.giving:
            kept.append(pair)
        else:
            alone += [Alone(part, role, _reason(role, pair, pairing)) for role, part in pair.members]
    return Paired(kept, alone, elsewhere)


def _received(options: list[_Reading], giving: set[str]) -> str | None:
    """The stem of a low, one that a high has if there is one; None for what is no low."""
    if not options or options[0].role not in ("low", "self"):
        return None
    stems = [option.stem.lower() for option in options]
    return next((stem for stem in stems if stem in giving), stems[0])


def _of_another_lod(part: Part, pairing: Pairing) -> bool:
    return bool(pairing.level) and lod_of_object(part.file, part.name) not in (None, int(pairing.level))


def _join_given(pairs: dict[str, Pair], pairing: Pairing, files: dict[str, FileSettings]) -> None:
    """Let unmatched parts of files with a role of their own meet in the pair `ALL`, if there are lows and highs."""
    given = {name for name, settings in files.items() if settings.role}
    waiting = [
        (pair, role, part)
        for pair in pairs.values()
        if not (pair.lows and pair.giving)
        for role, part in pair.members
        if part.file in given and not pairing.placed.get(part.key, Placing()).pair
    ]
    there = pairs.get(ALL, Pair(ALL))
    roles = {role for _, role, _ in waiting} | {role for role, _ in there.members}
    if not roles & {"low", "self"} or not roles & {"high", "float"}:
        return
    everything = pairs.setdefault(ALL, Pair(ALL))
    for pair, role, part in waiting:
        if pair is not everything:
            kind = {"self": "lows"}.get(role, role + "s")
            getattr(pair, kind).remove(part)
            getattr(everything, kind).append(part)
            if role == "self":
                pair.sources.remove(part)
                everything.sources.append(part)


def _join_cages(pairs: dict[str, Pair], pairing: Pairing, files: dict[str, FileSettings]) -> None:
    """Let unmatched parts of files that were given as cages, or named so alone, join the pair if there is only one."""
    whole = [pair for pair in pairs.values() if pair.lows and pair.giving]
    if len(whole) != 1:
        return
    for pair in pairs.values():
        for part in [p for p in pair.cages if pair is not whole[0]]:
            plain = pair.name == ALL or any(not read.stem for read in read_name(pair.name, pairing))  # cage, low_cage
            if not plain and not files.get(part.file, FileSettings()).role:
                continue
            if not pairing.placed.get(part.key, Placing()).pair:
                pair.cages.remove(part)
                whole[0].cages.append(part)


def _readings(part: Part, pairing: Pairing, settings: FileSettings) -> list[_Reading]:
    """Role and stem of a part: by hand, by its name, by its file's role, by its file's name."""
    names = part.name, part.file.rpartition(".")[0] or part.file
    if pairing.level:
        names = lod_of(names[0])[1], lod_of(names[1])[1]
    readings, by_file = (_by_suffix(name, pairing) for name in names)
    if not readings and not by_file:
        readings, by_file = (_by_word(name, pairing) for name in names)
        if readings and by_file and readings[0].role != by_file[0].role:
            readings = []  # an object of lp_shelf.obj may be called high_board
    placed = pairing.placed.get(part.key, Placing())
    role = placed.role
    if not role and settings.role:
        detail = settings.role == "high" and readings and readings[0].role == "float"  # a floater is a kind of high
        role = "float" if detail else settings.role
    options = readings or by_file
    if role:
        return [_Reading(role, r.stem) for r in options] or [_Reading(role, "")]
    return options


def _reason(role: str, pair: Pair, pairing: Pairing) -> str:
    stem = "" if pair.name == ALL else pair.name
    if role in ("low", "self"):
        return f"no high is called {stem}{pairing.first('high')}…" if stem else "there is no high for it"
    if pair.lows:
        return f"its low {pair.lows[0].name} has no high"
    return f"no low is called {stem}{pairing.first('low')}" if stem else "there is no low for it"
