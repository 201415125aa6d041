"""Transfer curves of Rec. 2020 and Rec. 2100 video, both ways, per channel. Primaries are handled elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .curves import bt709_encode

REFERENCE_WHITE = 203.0  # cd/m², HDR reference white: ITU-R BT.2408-7, section 2.1; it is 1.0 here
PQ_PEAK = 10_000.0
# ITU-R BT.2100-2, table 4 (SMPTE ST 2084)
_M1, _M2 = 2610 / 16384, 2523 / 4096 * 128
_C1, _C2, _C3 = 3424 / 4096, 2413 / 4096 * 32, 2392 / 4096 * 32
# ITU-R BT.2100-2, table 5
_A, _B, _C = 0.17883277, 0.28466892, 0.55991073
HLG_WHITE_SIGNAL = 0.75  # of reference white: ITU-R BT.2408-7, table 1


class Curve(NamedTuple):
    """Coded 0…1 to light and back."""

    decode: Callable[[NDArray], NDArray]
    encode: Callable[[NDArray], NDArray]


def bt709_decode(coded: NDArray) -> NDArray:
    """The inverse of the camera curve, which BT.2020 shares (ITU-R BT.709-6, item 1.2; BT.2020-2, table 4)."""
    x = np.abs(np.asarray(coded, np.float64))
    linear = np.where(x < 4.5 * 0.018, x / 4.5, ((x + 0.099) / 1.099) ** (1 / 0.45))
    return np.asarray(np.copysign(linear, coded))


def pq_decode(coded: NDArray) -> NDArray:
    """PQ to light, reference white 1."""
    x = np.clip(np.asarray(coded, np.float64), 0, 1) ** (1 / _M2)
    light = (np.maximum(x - _C1, 0) / (_C2 - _C3 * x)) ** (1 / _M1)
    return np.asarray(light * PQ_PEAK / REFERENCE_WHITE)


def pq_encode(light: NDArray) -> NDArray:
    """Light to PQ."""
    y = np.clip(np.asarray(light, np.float64) * REFERENCE_WHITE / PQ_PEAK, 0, 1) ** _M1
    return np.asarray(((_C1 + _C2 * y) / (1 + _C3 * y)) ** _M2)


def _hlg_scene(coded: NDArray) -> NDArray:
    x = np.clip(np.asarray(coded, np.float64), 0, 1)
    return np.asarray(np.where(x <= 0.5, x * x / 3, (np.exp((x - _C) / _A) + _B) / 12))


_WHITE = float(_hlg_scene(np.array(HLG_WHITE_SIGNAL)))


def hlg_decode(coded: NDArray) -> NDArray:
    """HLG to the light of the scene, reference white 1."""
    return _hlg_scene(coded) / _WHITE


def hlg_encode(light: NDArray) -> NDArray:
    """The light of the scene to HLG."""
    e = np.clip(np.asarray(light, np.float64) * _WHITE, 0, 1)
    return np.asarray(np.where(e <= 1 / 12, np.sqrt(3 * e), _A * np.log(np.maximum(12 * e - _B, 1e-9)) + _C))


WIDE_CURVES = {
    "Rec. 2020 camera": Curve(bt709_decode, bt709_encode),
    "Rec. 2100 PQ": Curve(pq_decode, pq_encode),
    "Rec. 2100 HLG": Curve(hlg_decode, hlg_encode),
}
