"""The keys that the rail shows: those of the open stage; gone to, moved, copied, pasted and deleted together."""

from __future__ import annotations

from typing import Any

from ..shot import UNSOLVED
from ..shot.keys import AnyKey, Place, key_frames, keys_on, with_keys_moved, with_keys_put, without_keys
from ..words import say
from .desk import Desk

FINISH_PARTS = {
    "Tone": ("tone", "look"), "LUT": ("lut",), "Glow": ("glow",), "Vignette": ("vignette",), "Local": ("lights",),
    "Grain": ("grain",), "Frame": ("reframe",),
}  # fmt: skip
OF_THE_ZONE = frozenset({"match", "matte"})  # what of a zone is not its placement


class RailKeys:
    """Keys of whatever the open stage shows, as one."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._copied: dict[Place, AnyKey] = {}
        self._copied_from = ""

    # --- what has keys ---
    def _parts(self) -> Any:
        """The value whose keys are shown, or None."""
        desk = self.desk
        zone, shot = desk.zone, desk.shot
        if desk.stage == "Finish":
            return shot.finish
        if zone is None or desk.stage == "Source":
            return None
        of_stage: dict[str, Any] = {
            "Matte": desk.matte, "Lock": desk.lock, "Place": zone, "Group": shot.group_of(zone),
        }  # fmt: skip
        return of_stage.get(desk.stage, zone)

    def _skip(self) -> frozenset[str]:
        stage = self.desk.stage
        if stage == "Finish":
            names = FINISH_PARTS[self.desk.finish_part]
            return frozenset(type(self.desk.shot.finish).model_fields) - set(names)
        if stage == "Place":
            return OF_THE_ZONE
        if stage == "Match" and self.desk.zone is not None:
            fields = frozenset(type(self.desk.zone).model_fields) | frozenset(type(self.desk.zone.match).model_fields)
            return fields - {"match", self.desk.match_part}
        return frozenset()

    def _put(self, value: Any, label: str) -> None:
        desk = self.desk
        if desk.stage == "Finish":
            desk.edit(desk.shot.but(finish=value), label)
        elif desk.stage == "Matte":
            desk.edit_matte(value, label)
        elif desk.stage == "Lock":
            kept = {} if value.field == desk.lock.field else UNSOLVED
            desk.edit_lock(value.but(**kept), label)
        elif desk.stage == "Group":
            desk.edit(desk.shot.with_group(value), label)
        else:
            desk.edit_zone(value, label)

    def frames(self) -> list[int]:
        """Frames with a key of the open stage, and those on which marks were set later."""
        value = self._parts()
        if value is None:
            return []
        frames = set(key_frames(value, self._skip()))
        if self.desk.stage == "Lock":
            frames |= {mark.frame for mark in value.marks if mark.frame is not None}
        return sorted(frames)

    # --- what is done with them ---
    def go(self, way: int) -> None:
        """To the next key, or with −1 to the one before."""
        here = self.desk.frame
        ahead = [frame for frame in self.frames() if (frame - here) * way > 0]
        if ahead:
            self.desk.set_frame(min(ahead) if way > 0 else max(ahead))
        else:
            self.desk.said.emit(
                say(
                    "{stage} has no key {how} this frame.",
                    stage=say(self.desk.stage),
                    how=say("after") if way > 0 else say("before"),
                ),
                False,
            )

    def move(self, frame: int, to: int) -> None:
        """All keys of a frame to another."""
        value = self._parts()
        if value is not None and frame != to:
            self._put(
                with_keys_moved(value, frame, to, self._skip()),
                say("Move keys from {frame} to {to}", frame=frame, to=to),
            )

    def copy(self) -> None:
        """The keys of this frame, to be pasted on another."""
        value, desk = self._parts(), self.desk
        found = {} if value is None else keys_on(value, desk.frame, self._skip())
        if not found:
            desk.said.emit(
                say("There is no key of {stage} on frame {frame}.", stage=say(desk.stage), frame=desk.frame), True
            )
            return
        self._copied, self._copied_from = found, desk.stage
        desk.said.emit(say("Copied {count} keys of frame {frame}.", count=len(found), frame=desk.frame), False)

    def paste(self) -> None:
        """The copied keys on this frame."""
        value, desk = self._parts(), self.desk
        if not self._copied or self._copied_from != desk.stage or value is None:
            desk.said.emit(
                say("No keys of {stage} were copied. Copy them on another frame first.", stage=say(desk.stage)), True
            )
            return
        self._put(with_keys_put(value, self._copied, desk.frame), say("Paste keys on {frame}", frame=desk.frame))

    def delete(self) -> None:
        """The keys of this frame are removed."""
        value, desk = self._parts(), self.desk
        if value is not None and desk.frame in self.frames():
            self._put(without_keys(value, desk.frame, self._skip()), say("Delete keys of {frame}", frame=desk.frame))
        else:
            desk.said.emit(
                say("There is no key of {stage} on frame {frame}.", stage=say(desk.stage), frame=desk.frame), True
            )
