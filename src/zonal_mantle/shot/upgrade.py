"""Shots of older formats brought up to the present one."""

from __future__ import annotations

import copy
from typing import Any


def upgraded(data: dict[str, Any]) -> dict[str, Any]:
    """A shot's JSON value in the present format.

    Format 1 held a matte within each zone, with one luma pull. Format 2 had point locks only, of a similarity.
    """
    data = copy.deepcopy(data)
    if data.get("version") == 1:
        mattes = []
        for number, zone in enumerate(data.get("zones", []), 1):
            old = zone.get("matte")
            if not isinstance(old, dict):
                continue
            use: dict[str, Any] = {"on": old.get("on", False), "id": None}
            if old.get("pull") or old.get("shapes"):
                use["id"] = f"matte{number}"
                mattes.append({"id": use["id"], "name": f"{zone.get('name', 'Zone')} matte", **_matte(old)})
            zone["matte"] = use
        data["mattes"] = mattes
        data["version"] = 2
    if data.get("version") == 2:  # format 3 only adds to locks
        data["version"] = 3
    if data.get("version") == 3:  # format 4 only adds: ways to hang, lines, blending
        data["version"] = 4
    if data.get("version") == 4:
        # until then a zone that holds the plate lay in the picture as it is, whatever its placement and opacity said
        for zone in data.get("zones", []):
            if zone.get("source") == data.get("plate"):
                zone.pop("placement", None)
                zone.pop("seam", None)
                if isinstance(zone.get("blend"), dict):
                    zone["blend"].pop("opacity", None)
        data["version"] = 5
    if data.get("version") == 5:
        for matte in data.get("mattes", []):
            for pull in matte.get("pulls", []):
                if pull.get("kind") == "clear sky":  # until then a surface was all that it could find
                    pull.setdefault("finds", "surface")
        data["version"] = 6
    if data.get("version") == 6:
        _as_timed_by_frames(data)
        data["version"] = 7
    if data.get("version") == 7:
        for zone in data.get("zones", []):
            if isinstance(zone.get("match"), dict) and not isinstance(zone["match"].get("air"), dict):
                zone["match"] = _in_parts(zone["match"])
        data["version"] = 8
    if data.get("version") == 8:
        _grouped_by_id(data)
        data["version"] = 9
    if data.get("version") == 9:  # format 10 only adds: notes, findings that are set aside, states
        data["version"] = 10
    return data


def _grouped_by_id(data: dict[str, Any]) -> None:
    """Until format 9 the zones of a group held its name."""
    ids: dict[str, str] = {}
    for zone in data.get("zones", []):
        name = zone.get("group")
        if isinstance(name, str) and name:
            zone["group"] = ids.setdefault(name, f"group{len(ids) + 1}")
        else:
            zone.pop("group", None)
    if ids:
        data["groups"] = [{"id": id, "name": name} for name, id in ids.items()]


def _as_timed_by_frames(data: dict[str, Any]) -> None:
    """Until format 7 a clip's own rate and the shape of its pixels went unheeded."""
    for zone in data.get("zones", []):
        if isinstance(zone.setdefault("timing", {}), dict):
            zone["timing"].setdefault("own_rate", False)
    sources = [source for source in data.get("sources", []) if isinstance(source, dict)]
    plate = next((source for source in sources if source.get("id") == data.get("plate")), {})
    for source in sources:
        source["pixel_aspect"] = plate.get("pixel_aspect", 1.0)


def _in_parts(old: dict[str, Any]) -> dict[str, Any]:
    """Until format 8 a match was one ASC CDL and a switch for the air."""
    cdl = {name: old[name] for name in ("slope", "offset", "power", "saturation") if name in old}
    match: dict[str, Any] = {"tone": {"cdl": cdl}, "air": {"on": old.get("air", True)}}
    return {**({"on": old["on"]} if "on" in old else {}), **match}


def _matte(old: dict[str, Any]) -> dict[str, Any]:
    pull = dict(old.get("pull") or {})
    clamp = pull.pop("clamp", True)
    shapes = []
    for shape in old.get("shapes", []):
        feather = shape.get("feather_px", 0.0)
        rest = {key: value for key, value in shape.items() if key != "feather_px"}
        shapes.append({**rest, "feather_in_px": feather, "feather_out_px": feather})
    pulls = [{"kind": "luma", "id": "pull1", **pull}] if pull else []
    return {"pulls": pulls, "shapes": shapes, "clamp": clamp}
