"""What is at work, in words."""

from types import SimpleNamespace

from jinja2 import Environment

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.engine.messages import CheckPiece, Load, ProbeAt, Source
from inkwell_cast.engine.ticket import Ticket
from inkwell_cast.web.services.at_work import Work
from inkwell_cast.web.templating import HERE, STAGE_WORDS


def test_what_waits_says_for_what_of_which_piece():
    piece = SimpleNamespace(name="Bust")
    engine = SimpleNamespace(tickets=[], all=[SimpleNamespace(compiling=None)])
    known = SimpleNamespace(get=lambda number, most: [piece] if number == 7 else None)
    work = Work(SimpleNamespace(engine=engine, pieces=known))
    own = SimpleNamespace(tickets=engine.tickets)
    checks = Ticket(CheckPiece(Recipe(), [Source("a", "a.obj", "")]), lambda: None, lambda stage, share: None, own, 7)
    reading = Ticket(Load("b", "small.obj", "b.npz"), lambda: None, lambda stage, share: None, own)
    engine.tickets += [checks, reading]
    assert [job.behind for job in work.listed()] == ["", ""]  # nothing is at work yet
    pointed = Ticket(ProbeAt(Recipe(), [], "", 1, 1), lambda: None, lambda stage, share: None, own, 7)
    engine.tickets.insert(0, pointed)
    assert pointed.begin()
    assert work.listed()[-1].behind == ""  # what follows the pointer is over in a moment
    assert checks.begin()
    checks.began -= 1
    assert [(job.name, job.behind) for job in work.listed()] == [
        ("Checks", ""),
        ("Reading small.obj", "Checks of Bust"),
    ]


def test_what_is_compiled_once_on_a_machine_is_told_and_cannot_be_stopped():
    lanes = SimpleNamespace(tickets=[], all=[SimpleNamespace(compiling=share) for share in (None, 0.4)])
    rows = Work(SimpleNamespace(engine=lanes, pieces=None)).listed()
    assert [(row.number, row.stage, row.share) for row in rows] == [(0, "compiling", 0.4)]
    page = HERE.joinpath("templates", "at_work.html").read_text()
    told = Environment(autoescape=True).from_string(page).render(jobs=rows, stage_words=STAGE_WORDS.get)
    assert "40 %" in told
    assert "Stop" not in told
