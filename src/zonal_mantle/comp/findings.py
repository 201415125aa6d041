"""What of a shot's readings is outside of what is acceptable, in words."""

from __future__ import annotations

import numpy as np

from ..shot import Matte, Shot, Zone
from ..words import say
from .finding import Finding
from .matte_over_shot import MatteOverShot
from .mends import best_lock, hidden_behind
from .readings import Readings
from .readings_grain import GrainReading
from .readings_lens import LensReading
from .readings_matte import (
    CHATTER_ACCEPTED,
    DOUBT_ACCEPTED,
    HALO_ACCEPTED,
    JUMP_ACCEPTED,
    LEAST_PART,
    LIKELY_WRONG_ACCEPTED,
    STRIP_ACCEPTED,
)
from .readings_place import place_words
from .readings_ride import ride_finding

HOLES_ACCEPTED = 0.002
LEFTOVER_ACCEPTED = 0.002
AGAINST_SKY_ACCEPTED = 0.001  # of the ground, or of the sky, where a matte is judged by the sky in the picture
RESIDUAL_ACCEPTED_PX = 0.3


def findings_of(shot: Shot, readings: Readings) -> list[Finding]:
    """What is outside of what is acceptable in all stages, but for files that are missing or damaged."""
    found: list[Finding] = []
    for matte in shot.mattes:
        if reading := readings.mattes.get(matte.id):
            found += _matte_findings(matte, reading)
    far = [zone for zone in shot.near_to_far() if zone.is_seen(shot.first)]
    if far and far[-1].blend.mode != "normal" and not far[-1].blend.on_old_sky:
        words = say(
            "{name} is the farthest: nothing lies behind it that {mode} could blend with.",
            name=far[-1].name,
            mode=say(far[-1].blend.mode),
        )
        found.append(Finding("Place", far[-1].id, shot.first, words))
    for zone in shot.zones:
        if place := readings.places.get(zone.id):
            found += [
                Finding("Place", zone.id, frame, words, fault, "wrong" if fault == "uncovered" else "doubt")
                for frame, words, fault in place_words(zone, place)
            ]
            if place.screen is not None:
                words = say(
                    "{name} is {screen} all round, as if shot before a screen: all of it is laid over the picture.",
                    name=zone.name,
                    screen=say(place.screen),
                )
                found.append(Finding("Matte", zone.id, shot.first, words, severity="wrong"))
        if zone.placement.rides and not shot.lock(zone.placement.rides).holds:
            words = say(
                "{name} rides on {other}, which is not solved.",
                name=zone.name,
                other=shot.lock(zone.placement.rides).name,
            )
            found.append(Finding("Lock", zone.id, shot.first, words, severity="wrong"))
        if (ride := readings.rides.get(zone.id)) and (finding := ride_finding(shot, zone, ride)):
            found.append(finding)
        free = zone.placement.on and zone.on and not zone.placement.rides and not shot.holds_plate(zone)
        if free and (lock := best_lock(shot, zone.distance_m, zone.placement.way)) is not None:
            words = say(
                "{name} rides on nothing: it does not follow the camera, though {other} is solved.",
                name=zone.name,
                other=lock.name,
            )
            found.append(Finding("Lock", zone.id, shot.first, words))
        if behind := hidden_behind(shot, zone):
            what = behind[0].name if len(behind) == 1 else say("{count} zones", count=len(behind))
            words = say("{name} is not cut by a matte: {what} behind it cannot be seen.", name=zone.name, what=what)
            found.append(Finding("Matte", zone.id, shot.first, words, severity="wrong"))
    for lock in shot.locks:
        held = readings.locks.get(lock.id)
        if held and held.worst_px > RESIDUAL_ACCEPTED_PX:
            words = say("{name} is off by {worst_px:.2f} px at its worst.", name=lock.name, worst_px=held.worst_px)
            words = say("{words} {remark}", words=words, remark=lock.remarks[0]) if lock.remarks else words
            found.append(Finding("Lock", lock.id, held.worst_frame, words))
        if lock.solved and lock.kind in ("camera", "point") and lock.knows_camera and not lock.lens.focal_told:
            reason = lock.lost[-1] if lock.lost else say("this motion does not tell the focal length.")
            words = say("{name}: {reason}", name=lock.name, reason=reason)
            found.append(Finding("Lock", lock.id, lock.reference_frame, words))
        if held and held.solved < held.wanted:
            gaps = [frame for frame in shot.frames if lock.at(frame) is None]
            reason = lock.lost[0] if lock.lost else say("not solved to the end.")
            words = say(
                "{name} holds {solved} of {wanted} frames. {reason}",
                name=lock.name,
                solved=held.solved,
                wanted=held.wanted,
                reason=reason,
            )
            found.append(Finding("Lock", lock.id, gaps[0], words, severity="wrong"))
    if readings.finish is not None:
        found += [Finding("Finish", "finish", frame, words) for frame, words in readings.finish.troubles]
    return found + _match_findings(shot, readings)


def _match_findings(shot: Shot, readings: Readings) -> list[Finding]:
    """Zones that are far from the aim that was drawn for them, or sharper or softer than it; grain that is unlike the
    plate's, clips of it that are shorter than the shot."""
    found = []
    for zone in shot.zones:
        reading = readings.matches.get(zone.id)
        if reading is not None and reading.drawn and reading.problem:
            found.append(Finding("Match", zone.id, reading.frame, reading.problem))
        if reading is not None and reading.is_off and (tone := reading.tone) is not None:
            words = say(
                "{name}: its tone seems {off:.0f} ± {spread:.0f} ΔE from its aim's.",
                name=zone.name,
                off=tone.delta_e,
                spread=tone.spread,
            )
            found.append(Finding("Match", zone.id, reading.frame, words, "tone"))
        if zone.id in readings.lenses and zone.match.aim.areas:
            found += _lens_findings(zone, readings.lenses[zone.id])
        if zone.id in readings.grains:
            found += _grain_findings(zone, readings.grains[zone.id])
        clip = zone.match.grain.clip
        if zone.match.grain.on and clip is not None:
            source = shot.source(clip)
            if source.end - source.start + 1 < len(shot.frames):
                words = say(
                    "The grain of {name}, {other}, is shorter than the shot: it begins again.",
                    name=zone.name,
                    other=source.name,
                )
                found.append(Finding("Match", zone.id, shot.first, words))
    return found


def _lens_findings(zone: Zone, reading: LensReading) -> list[Finding]:
    """A zone that is seen to be sharper or softer than its aim."""
    if reading.off is None or reading.wider is None:
        return []
    words = say(
        "{name} is {how} than its aim: its sharpest edges are {times:.1f} times as {wide}.",
        name=zone.name,
        how=say(reading.off),
        times=float(np.exp(abs(reading.wider))),
        wide=say("wide") if reading.off == "softer" else say("narrow"),
    )
    return [Finding("Match", zone.id, reading.frame, words, "lens")]


def _grain_findings(zone: Zone, reading: GrainReading) -> list[Finding]:
    """What of a zone's grain is seen to be unlike the plate's."""
    found = reading.compared
    if found is None:
        return []
    own, plate = (each * 255 for each in found.strengths)
    if found.is_off or found.off_ranges:
        if own < 0.1:
            words = say("{name} has no grain; the plate's is {plate:.1f} of 255 there.", name=zone.name, plate=plate)
        elif found.is_off:
            words = say(
                "{name}: its grain is {own:.1f} of 255, the plate's {plate:.1f}.", name=zone.name, own=own, plate=plate
            )
        else:
            worst = max(found.off_ranges, key=lambda each: abs(np.log(_ratio(found.by_range[each]))))
            own, plate = (each * 255 for each in found.by_range[worst])
            words = say(
                "{name}: its grain in the {where} is {own:.1f} of 255, the plate's {plate:.1f}.",
                name=zone.name,
                where=say(worst),
                own=own,
                plate=plate,
            )
        return [Finding("Match", zone.id, reading.frame, words, "grain")]
    if found.off_width is not None and own > 0.5:
        words = say("{name}: its grain is {how} than the plate's.", name=zone.name, how=say(found.off_width))
        return [Finding("Match", zone.id, reading.frame, words, "grain")]
    return []


def _ratio(strengths: tuple[float, float]) -> float:
    own, plate = strengths
    return max(own, 1e-6) / max(plate, 1e-6)


def _matte_findings(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    """What is outside of the acceptable in one matte, each on its worst frame."""
    if reading.problem:
        return [
            Finding(
                "Matte",
                matte.id,
                reading.problem_frame,
                say("{name}: {problem}", name=matte.name, problem=reading.problem),
                severity="wrong",
            )
        ]
    found = []
    if reading.doubt is not None and reading.doubt > DOUBT_ACCEPTED:
        x, y = reading.doubt_place
        if reading.no_sky:
            words = say(
                "{name}: what goes, about {x:.0f}, {y:.0f}, may be no sky at all, but a wall, water or snow. Say so "
                "with Not sky here, or show some sky with Sky here.",
                name=matte.name,
                x=x,
                y=y,
            )
        else:
            words = say(
                "{name}: {doubt:.0%} of the frame may be sky or not, about {x:.0f}, {y:.0f}: clouds may be left, "
                "or ground may go. Say which with Sky here or Not sky here.",
                name=matte.name,
                doubt=reading.doubt,
                x=x,
                y=y,
            )
        found.append(Finding("Matte", matte.id, reading.doubt_frame, words, "doubt"))
    if reading.likely_wrong > LIKELY_WRONG_ACCEPTED:
        x, y = reading.likely_wrong_place
        words = say(
            "{name}: about {wrong:.1%} of the frame is likely cut wrong, most of it about {x:.0f}, {y:.0f}. Look at "
            "the doubtful areas at full size.",
            name=matte.name,
            wrong=reading.likely_wrong,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.likely_wrong_frame, words, "doubt"))
    if reading.strip > STRIP_ACCEPTED:
        x, y = reading.strip_place
        words = say(
            "{name}: what goes just above the ground, about {x:.0f}, {y:.0f}, is set off from the sky: "
            "distant ground may go. Say so with Not sky here, or with Sky here that it is cloud.",
            name=matte.name,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.strip_frame, words, "doubt"))
    if reading.least < LEAST_PART:
        words = say("{name}: nothing of the frame stays.", name=matte.name)
        found.append(Finding("Matte", matte.id, reading.least_frame, words, severity="wrong"))
    if reading.least > 1 - LEAST_PART and matte.pulls:
        words = say("{name}: all of every frame stays; it cuts nothing.", name=matte.name)
        found.append(Finding("Matte", matte.id, reading.least_frame, words, severity="wrong"))
    if reading.jump > JUMP_ACCEPTED:
        words = say(
            "{name}: what stays changes by {jump:.0%} of the frame from the frame before.",
            name=matte.name,
            jump=reading.jump,
        )
        found.append(Finding("Matte", matte.id, reading.jump_frame, words))
    if reading.flicker > 0:
        words = say(
            "{name}: what stays flickers, by {flicker:.1%} of the frame against the frames beside.",
            name=matte.name,
            flicker=reading.flicker,
        )
        found.append(Finding("Matte", matte.id, reading.flicker_frame, words))
    if reading.off_px > 0:
        words = say(
            "{name}: compared with the picture, its edge lies {off_words}.",
            name=matte.name,
            off_words=reading.off_words,
        )
        found.append(Finding("Matte", matte.id, reading.off_frame, words))
    if reading.by_sky:
        return found + _against_sky(matte, reading) + _of_the_edge(matte, reading)
    if reading.holes > HOLES_ACCEPTED:
        size = say("the largest {largest_hole_px2:.0f} px²", largest_hole_px2=reading.largest_hole_px2)
        words = say(
            "{name}: {holes:.1%} of the keep area is not solid, {size}.",
            name=matte.name,
            holes=reading.holes,
            size=size,
        )
        found.append(Finding("Matte", matte.id, reading.holes_frame, words, "holes"))
    if reading.leftover > LEFTOVER_ACCEPTED:
        words = say(
            "{name}: {leftover:.1%} of the dropped area is not empty.", name=matte.name, leftover=reading.leftover
        )
        found.append(Finding("Matte", matte.id, reading.leftover_frame, words, "leftover"))
    return found + _of_the_edge(matte, reading)


def _against_sky(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    """Where a matte of the sky contradicts the picture."""
    found = []
    if reading.leftover > AGAINST_SKY_ACCEPTED:
        x, y = reading.leftover_place
        words = say(
            "{name}: sky or clouds may be left, {leftover:.1%} of the sky, about {x:.0f}, {y:.0f}.",
            name=matte.name,
            leftover=reading.leftover,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.leftover_frame, words, "leftover"))
    elif reading.piece_px2 > 0:  # too small a share to tell by it
        x, y = reading.piece_place
        words = say(
            "{name}: a piece of sky or cloud may stay by itself, {piece_px2:.0f} px², about {x:.0f}, {y:.0f}.",
            name=matte.name,
            piece_px2=reading.piece_px2,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.piece_frame, words, "leftover"))
    if reading.holes > AGAINST_SKY_ACCEPTED:
        x, y = reading.holes_place
        words = say(
            "{name}: ground may be gone, {holes:.1%} of it, about {x:.0f}, {y:.0f}.",
            name=matte.name,
            holes=reading.holes,
            x=x,
            y=y,
        )
        found.append(Finding("Matte", matte.id, reading.holes_frame, words, "holes"))
    return found


def _of_the_edge(matte: Matte, reading: MatteOverShot) -> list[Finding]:
    found = []
    if reading.halo is not None and abs(reading.halo) > HALO_ACCEPTED:
        kind = say("pale") if reading.halo > 0 else say("dark")
        words = say(
            "{name}: a {kind} fringe, {halo:+.0f} of 255 toward the old sky.",
            name=matte.name,
            kind=say(kind),
            halo=reading.halo,
        )
        found.append(Finding("Matte", matte.id, reading.halo_frame, words, "halo"))
    if reading.chatter is not None and reading.chatter > CHATTER_ACCEPTED:
        words = say(
            "{name}: the edge chatters, alpha changes by {chatter:.2f} a frame.",
            name=matte.name,
            chatter=reading.chatter,
        )
        found.append(Finding("Matte", matte.id, reading.chatter_frame, words, "chatter"))
    return found
