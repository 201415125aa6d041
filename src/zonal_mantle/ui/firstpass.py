"""Runs the first pass in the background and puts its steps into the history, one by one."""

from __future__ import annotations

from collections.abc import Callable

from ..comp import Job
from ..comp.first_pass import Step, carried
from ..comp.first_pass import first_pass as steps_of
from ..comp.shelf import library_folder
from ..skies import make_library
from ..words import say
from .desk import Desk

LIBRARY_SHARE = 0.2  # of the time, where the skies have to be painted first


def first_pass(desk: Desk, then: Callable[[], None]) -> None:
    """Lock, matte, sky, cover and fits; `then` is called once they are in the shot."""
    shot = desk.shot
    if shot.plate is None:
        desk.said.emit(say("Open a plate first."), True)
        return

    def work(job: Job) -> list[Step]:
        cards = make_library(
            library_folder(), lambda share, words: job.progress(LIBRARY_SHARE * share, words), framed_only=True
        )
        return steps_of(
            shot, desk.store, cards, lambda s, words: job.progress(LIBRARY_SHARE + (1 - LIBRARY_SHARE) * s, words)
        )

    def done(steps: list[Step]) -> None:
        after = [carried(step.shot, shot, desk.shot) for step in steps]
        if any(each is None for each in after):
            desk.said.emit(say("The shot was changed meanwhile; the first pass was left out. Run it again."), True)
            return
        for step, new in zip(steps, after):
            if new is not None:
                desk.edit(new, step.label)
        sky = desk.shot.near_to_far()[-1]
        desk.choose_zone(sky.id)
        undone = [step.words for step in steps if not step.done]
        words = " ".join(undone) if undone else "First pass done: see what the findings doubt."
        desk.said.emit(words, bool(undone))
        then()

    desk.run("First pass", work, done)
