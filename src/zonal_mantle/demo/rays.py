"""The tracer's kernels: panels, hills, ground with its mirrors, the overcast sky."""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

TILE = 32
FUSED = {"contract", "arcp", "nsz", "afn"}
jit = numba.njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
inlined = numba.njit(nogil=True, forceinline=True, fastmath=FUSED, error_model="numpy")


class Panels(NamedTuple):
    """All panels, and their textures with their halvings in one flat array."""

    corner: NDArray[np.float64]
    across: NDArray[np.float64]
    down: NDArray[np.float64]
    velocity: NDArray[np.float64]
    spin: NDArray[np.float64]
    texture: NDArray[np.int64]
    light: NDArray[np.float64]
    added: NDArray[np.bool_]
    level: NDArray[np.int64]
    data: NDArray[np.float32]
    offset: NDArray[np.int64]  # (textures, levels)
    width: NDArray[np.int64]
    height: NDArray[np.int64]


class Tiles(NamedTuple):
    """For every tile of the picture, which panels may be met there, near to far; `behind` are met beyond the hills."""

    across: int
    starts: NDArray[np.int64]
    ids: NDArray[np.int64]
    mirror_starts: NDArray[np.int64]
    mirror_ids: NDArray[np.int64]
    behind: NDArray[np.int64]


class Hills(NamedTuple):
    """The hill lines: their tops as tangents over the bearing, their colours, distances, half of the bearings' span."""

    tangents: NDArray[np.float64]
    colours: NDArray[np.float32]
    distances: NDArray[np.float64]
    half: float
    top: float


class NewSky(NamedTuple):
    """The sky painting as a flat picture: `reference` is the camera it faces, with its horizon's slope."""

    picture: NDArray[np.float32]
    reference: NDArray[np.float64]
    span: float
    horizon: float


class Air(NamedTuple):
    """Airlight and extinction."""

    light: NDArray[np.float64]
    beta: float


@inlined
def _fetch(data, offset, w, h, u, v, out):  # type: ignore[no-untyped-def]
    """Bilinear lookup of an RGBA texture at u, v in 0…1, clear outside."""
    x, y = u * w - 0.5, v * h - 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    for c in range(4):
        out[c] = 0.0
    for j in range(2):
        yy = y0 + j
        if yy < 0 or yy >= h:
            continue
        wy = fy if j else 1 - fy
        for i in range(2):
            xx = x0 + i
            if xx < 0 or xx >= w:
                continue
            weight = wy * (fx if i else 1 - fx)
            base = offset + (yy * w + xx) * 4
            for c in range(4):
                out[c] += weight * data[base + c]


@inlined
def _noise(table, x, y, channel):  # type: ignore[no-untyped-def]
    """Bilinear lookup of tiling noise, in texels."""
    n = table.shape[0]
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    a, b = x0 & (n - 1), (x0 + 1) & (n - 1)
    c, d = y0 & (n - 1), (y0 + 1) & (n - 1)
    top = table[c, a, channel] * (1 - fx) + table[c, b, channel] * fx
    bottom = table[d, a, channel] * (1 - fx) + table[d, b, channel] * fx
    return top * (1 - fy) + bottom * fy


@inlined
def _overcast(dx, dy, dz, table, out):  # type: ignore[no-untyped-def]
    """Blank bright overcast: a little brighter upward and to the right, with faint mottling."""
    size = np.sqrt(dx * dx + dy * dy + dz * dz)
    el = dz / size
    az = np.arctan2(dx, dy)
    h, w = table.shape
    x, y = (az * 0.16 + 0.5) * w, (0.5 - el * 0.6) * h
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    a = table[y0 % h, x0 % w] * (1 - fx) + table[y0 % h, (x0 + 1) % w] * fx
    b = table[(y0 + 1) % h, x0 % w] * (1 - fx) + table[(y0 + 1) % h, (x0 + 1) % w] * fx
    value = 0.80 + 0.26 * max(el, 0.0) + 0.05 * np.sin(az) + 0.011 * (a * (1 - fy) + b * fy)
    out[0], out[1], out[2] = value * 0.985, value, value * 1.02


@inlined
def _hills(px, dx, dy, dz, hills, air, out):  # type: ignore[no-untyped-def]
    """The hill lines, near over far. True if the ray meets one."""
    tangents, colours, distances, half = hills.tangents, hills.colours, hills.distances, hills.half
    flat = np.sqrt(dx * dx + dy * dy)
    el = dz / flat
    n, rows = tangents.shape[1], colours.shape[1]
    for k in range(2):
        az = np.arctan2(dx, dy) + px / distances[k]
        x = (az / half * 0.5 + 0.5) * n
        i = min(max(int(x), 0), n - 2)
        f = min(max(x - i, 0.0), 1.0)
        top = tangents[k, i] * (1 - f) + tangents[k, i + 1] * f
        if el < top:
            r = min(max(int((1 - max(el, 0.0) / top) * (rows - 1)), 0), rows - 1)
            keep = np.exp(-air.beta * distances[k])
            for c in range(3):
                value = colours[k, r, i, c] * (1 - f) + colours[k, r, i + 1, c] * f
                out[c] = value * 0.85 * keep + air.light[c] * (1 - keep)
            return True
    return False


@inlined
def _panels(ox, oy, oz, dx, dy, dz, time, ids, first, last, panels, air, acc, rest, texel):  # type: ignore[no-untyped-def]
    """Lays the panels that a ray meets over one another from near to far, for both pictures."""
    corner, across, down, velocity, spin = panels.corner, panels.across, panels.down, panels.velocity, panels.spin
    for k in range(first, last):
        q = ids[k]
        if rest[0] < 0.003 and rest[1] < 0.003:
            return
        ax, ay, az = across[q, 0], across[q, 1], across[q, 2]
        bx, by, bz = down[q, 0], down[q, 1], down[q, 2]
        nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        facing = nx * dx + ny * dy + nz * dz
        if abs(facing) < 1e-9:
            continue
        cx = corner[q, 0] + velocity[q, 0] * time - ox
        cy = corner[q, 1] + velocity[q, 1] * time - oy
        cz = corner[q, 2] + velocity[q, 2] * time - oz
        t = (nx * cx + ny * cy + nz * cz) / facing
        if t <= 1e-6:
            continue
        hx, hy, hz = t * dx - cx, t * dy - cy, t * dz - cz
        u = (hx * ax + hy * ay + hz * az) / (ax * ax + ay * ay + az * az)
        v = (hx * bx + hy * by + hz * bz) / (bx * bx + by * by + bz * bz)
        if u < 0 or u > 1 or v < 0 or v > 1:
            continue
        if spin[q] != 0:
            angle = spin[q] * time
            ca, sa = np.cos(angle), np.sin(angle)
            uu, vv = u - 0.5, v - 0.5
            u, v = 0.5 + ca * uu - sa * vv, 0.5 + sa * uu + ca * vv
            if u < 0 or u > 1 or v < 0 or v > 1:
                continue
        tex, lev = panels.texture[q], panels.level[q]
        _fetch(panels.data, panels.offset[tex, lev], panels.width[tex, lev], panels.height[tex, lev], u, v, texel)
        a = texel[3]
        if a <= 0:
            continue
        keep = np.exp(-air.beta * t * np.sqrt(dx * dx + dy * dy + dz * dz))
        for p in range(2):
            if p == 0 and panels.added[q]:
                continue
            for c in range(3):
                acc[p, c] += rest[p] * (texel[c] * panels.light[q] * keep + a * air.light[c] * (1 - keep))
            rest[p] *= 1 - a


@inlined
def _ground(gx, gy, far, noise, albedo):  # type: ignore[no-untyped-def]
    """What the ground is made of at a place. Sets the diffuse colour and returns how much of it mirrors, 0…1."""
    blur = min(far / 90.0, 1.0)
    n1 = _noise(noise, gx * 34.0, gy * 34.0, 2) * (1 - blur)
    n2 = _noise(noise, gx * 7.0, gy * 7.0, 0)
    n3 = _noise(noise, gx * 1.3, gy * 1.3, 1)
    u = gx * 0.972 - gy * 0.234 + 0.28 * n3 + 3.1
    v = gx * 0.234 + gy * 0.972 + 0.22 * n3 + 1.7
    cu, cv = np.floor(u / 12.5), np.floor(v / 8.5)
    du = min(u - cu * 12.5, (cu + 1) * 12.5 - u)
    dv = min(v - cv * 8.5, (cv + 1) * 8.5 - v)
    bank = min(du, dv) + 0.12 * n2 + 0.05 * n1
    key = np.sin(cu * 127.1 + cv * 311.7) * 43758.5453
    kind = key - np.floor(key)
    if bank < 0.62:
        worn = max(1 + 0.30 * n1 + 0.24 * n2 + 0.2 * _noise(noise, gx * 90.0, gy * 60.0, 0) * (1 - blur), 0.25)
        green = min(max(0.1 + 0.6 * n3 + 0.5 * n2, 0.0), 1.0)
        shade = 0.5 + 0.5 * min(max((0.62 - bank) * 3.0, 0.0), 1.0)
        albedo[0] = (0.185 - 0.045 * green) * worn * shade
        albedo[1] = (0.155 - 0.012 * green) * worn * shade
        albedo[2] = (0.118 - 0.050 * green) * worn * shade
        return 0.0
    wet = min(max((bank - 0.66 - 0.10 * n2) * 9.0, 0.0), 1.0)
    crust = min(max((1.15 - bank + 0.35 * n2 + 0.25 * n3) * 1.2, 0.0), 1.0) * 0.8
    if kind < 0.22:  # a pan raked dry: salt
        value = 0.50 + 0.05 * n1 + 0.06 * n2 + 0.03 * n3
        albedo[0], albedo[1], albedo[2] = value * 1.02, value * 0.985, value * 0.96
        return 0.10 * wet * min(max(n3 + 0.2, 0.0), 1.0)
    if kind < 0.5:  # brick-pink brine
        albedo[0], albedo[1], albedo[2] = 0.27 + 0.02 * n2, 0.17 + 0.015 * n2, 0.15
    elif kind < 0.8:  # grey-green
        albedo[0], albedo[1], albedo[2] = 0.115 + 0.01 * n2, 0.13 + 0.01 * n2, 0.105
    else:  # dark mud
        albedo[0], albedo[1], albedo[2] = 0.10 + 0.02 * n1, 0.085 + 0.02 * n1, 0.07
        wet *= 0.72 + 0.28 * min(max(n2, -1.0), 1.0)
    white = crust * (0.5 + 0.25 * n1)
    for c in range(3):
        albedo[c] = albedo[c] * (1 - crust) + max(white, 0.0) * 0.9 + crust * 0.08
    return wet * (1 - 0.85 * crust)


@inlined
def _enough(cam, i, j, w, h, hill_top, samples):  # type: ignore[no-untyped-def]
    """How many rays a pixel without panels needs: few in the smooth sky, more on the ground, all at the skyline."""
    lx, ly = (i + 0.5 - w * 0.5) / cam[12], (j + 0.5 - h * 0.5) / cam[12]
    dx, dy = cam[0] * lx + cam[3] * ly + cam[6], cam[1] * lx + cam[4] * ly + cam[7]
    el = (cam[2] * lx + cam[5] * ly + cam[8]) / np.sqrt(dx * dx + dy * dy)
    if el > hill_top + 0.008:
        return min(4, samples)
    if el < -0.03:
        return min(8, samples)
    return samples


@jit
def render_rows(  # type: ignore[no-untyped-def]
    y0, y1, cams, times, tiles, panels, hills, noise, sky_table, new_sky, air, plate, finished, alpha
):
    """Renders rows y0 to y1 of both pictures and the alpha of what stays."""
    starts, mirror_starts, painted = tiles.starts, tiles.mirror_starts, new_sky.picture
    reference, behind = new_sky.reference, tiles.behind
    w = plate.shape[1]
    samples = cams.shape[0]
    acc = np.zeros((2, 3))
    mirrored = np.zeros((2, 3))
    rest, mirror_rest = np.ones(2), np.ones(2)
    texel, colour, albedo = np.zeros(4), np.zeros(3), np.zeros(3)
    sh, sw = painted.shape[:2]
    for j in range(y0, y1):
        for i in range(w):
            tile = (j // TILE) * tiles.across + i // TILE
            total_a = 0.0
            for p in range(3):
                plate[j, i, p] = 0.0
                finished[j, i, p] = 0.0
            count = samples
            if starts[tile] == starts[tile + 1]:
                count = _enough(cams[0], i, j, w, plate.shape[0], hills.top, samples)
            for s in range(count):
                cam = cams[s]
                lx, ly = (i + cam[13] - w * 0.5) / cam[12], (j + cam[14] - plate.shape[0] * 0.5) / cam[12]
                dx = cam[0] * lx + cam[3] * ly + cam[6]
                dy = cam[1] * lx + cam[4] * ly + cam[7]
                dz = cam[2] * lx + cam[5] * ly + cam[8]
                ox, oy, oz = cam[9], cam[10], cam[11]
                acc[:] = 0.0
                rest[:] = 1.0
                _panels(
                    ox,
                    oy,
                    oz,
                    dx,
                    dy,
                    dz,
                    times[s],
                    tiles.ids,
                    starts[tile],
                    starts[tile + 1],
                    panels,
                    air,
                    acc,
                    rest,
                    texel,
                )
                if rest[0] > 0.003 or rest[1] > 0.003:
                    t = -oz / dz if dz < -1e-6 else 1e9
                    hit = False
                    if t < 1500.0:
                        hit = True
                        size = np.sqrt(dx * dx + dy * dy + dz * dz)
                        far = t * size
                        gx, gy = ox + t * dx, oy + t * dy
                        mirror = _ground(gx, gy, far, noise, albedo)
                        for c in range(3):
                            colour[c] = albedo[c] * 0.92
                        if mirror > 0.01:
                            ripple = 0.0012 + 0.011 / (1 + far * 0.06)
                            rx = dx / size + ripple * 0.5 * _noise(noise, gx * 21.0, gy * 13.0, 2)
                            ry = dy / size
                            rz = max(-dz / size + ripple * _noise(noise, gx * 17.0 + 300, gy * 29.0, 2), 0.0015)
                            glance = 1 - rz
                            fresnel = 0.02 + 0.98 * glance * glance * glance * glance * glance
                            mirrored[:] = 0.0
                            mirror_rest[:] = 1.0
                            _panels(
                                gx,
                                gy,
                                0.0,
                                rx,
                                ry,
                                rz,
                                times[s],
                                tiles.mirror_ids,
                                mirror_starts[tile],
                                mirror_starts[tile + 1],
                                panels,
                                air,
                                mirrored,
                                mirror_rest,
                                texel,
                            )
                            if mirror_rest[0] > 0.003:
                                if not _hills(gx, rx, ry, rz, hills, air, texel):
                                    _overcast(rx, ry, rz, sky_table, texel)
                                for c in range(3):
                                    mirrored[0, c] += mirror_rest[0] * texel[c]
                            for c in range(3):
                                shown = colour[c] * 0.75 * (1 - fresnel) + mirrored[0, c] * fresnel
                                colour[c] = colour[c] * (1 - mirror) + shown * mirror
                        keep = np.exp(-air.beta * far)
                        for c in range(3):
                            colour[c] = colour[c] * keep + air.light[c] * (1 - keep)
                    else:
                        hit = _hills(ox, dx, dy, dz, hills, air, colour)
                    if hit:
                        for p in range(2):
                            for c in range(3):
                                acc[p, c] += rest[p] * colour[c]
                            rest[p] = 0.0
                    else:
                        _overcast(dx, dy, dz, sky_table, texel)
                        for c in range(3):
                            acc[0, c] += rest[0] * texel[c]
                        if rest[1] > 0.003:
                            _panels(
                                ox, oy, oz, dx, dy, dz, times[s], behind, 0, behind.size, panels, air, acc, rest, texel
                            )
                        if rest[1] > 0.003:
                            qx = reference[0] * dx + reference[1] * dy + reference[2] * dz
                            qy = reference[3] * dx + reference[4] * dy + reference[5] * dz
                            qz = reference[6] * dx + reference[7] * dy + reference[8] * dz
                            su = (qx / qz / new_sky.span * 0.5 + 0.5) * sw - 0.5
                            sv = new_sky.horizon * sh + (qy / qz - reference[9]) / new_sky.span * 0.5 * sw - 0.5
                            x0 = min(max(int(np.floor(su)), 0), sw - 2)
                            yy0 = min(max(int(np.floor(sv)), 0), sh - 2)
                            fx, fy = min(max(su - x0, 0.0), 1.0), min(max(sv - yy0, 0.0), 1.0)
                            for c in range(3):
                                top = painted[yy0, x0, c] * (1 - fx) + painted[yy0, x0 + 1, c] * fx
                                low = painted[yy0 + 1, x0, c] * (1 - fx) + painted[yy0 + 1, x0 + 1, c] * fx
                                acc[1, c] += rest[1] * (top * (1 - fy) + low * fy)
                        total_a += rest[0]
                for c in range(3):
                    plate[j, i, c] += acc[0, c] / count
                    finished[j, i, c] += acc[1, c] / count
            alpha[j, i] = 1 - total_a / count
