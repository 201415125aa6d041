"""Kernels of bundle adjustment: where views see their points, how that changes, the sums of their normal equations, and
ties laid out."""

from __future__ import annotations

import numpy as np

from ..media.compiled import kernel


@kernel
def pictured_views(turns, places, points, camera, point, focal, bend, out):  # type: ignore[no-untyped-def]
    """Where each view sees its point, (n, 2) from the frame's middle. turns (c, 3, 3), places (c, 3), points (p, 4)."""
    for n in range(camera.size):
        turn, place, at = turns[camera[n]], places[camera[n]], points[point[n]]
        x, y, z = at[0] - at[3] * place[0], at[1] - at[3] * place[1], at[2] - at[3] * place[2]
        ahead = turn[2, 0] * x + turn[2, 1] * y + turn[2, 2] * z
        back = 1 / (1e-6 if abs(ahead) < 1e-6 else ahead)
        u = (turn[0, 0] * x + turn[0, 1] * y + turn[0, 2] * z) * back
        v = (turn[1, 0] * x + turn[1, 1] * y + turn[1, 2] * z) * back
        grown = focal * (1 + bend * (u * u + v * v))
        out[n, 0], out[n, 1] = grown * u, grown * v


@kernel
def slopes_of_views(turns, left, places, points, across, camera, point, focal, bend, free, only_turns, out):  # type: ignore[no-untyped-def]
    """How the picture of each view changes. The camera's turn, its left Jacobian and place, (c, 3, 3), (c, 3, 3), (c,
    3); points (p, 4) and two directions across each, (p, 3, 2); free: whether the focal length and the bend are. out:
    by the camera (n, 2, 6), by the lens (n, 2, 0…2), by the point (n, 2, 3)."""
    by_camera, by_lens, by_point = out
    way, local, world = np.empty(3), np.empty(3), np.empty((2, 3))
    to_flat, to_local = np.empty((2, 2)), np.empty((2, 3))
    free_focal, free_bend = free
    for n in range(camera.size):
        c, p = camera[n], point[n]
        turn, place, near = turns[c], places[c], points[p, 3]
        for i in range(3):
            way[i] = points[p, i] - near * place[i]
        for i in range(3):
            local[i] = turn[i, 0] * way[0] + turn[i, 1] * way[1] + turn[i, 2] * way[2]
        back = 1 / local[2]
        u, v = local[0] * back, local[1] * back
        square = u * u + v * v
        grown = focal * (1 + bend * square)
        to_flat[0, 0], to_flat[1, 1] = grown + 2 * focal * bend * u * u, grown + 2 * focal * bend * v * v
        to_flat[0, 1] = to_flat[1, 0] = 2 * focal * bend * u * v
        for a in range(2):
            to_local[a, 0], to_local[a, 1] = to_flat[a, 0] * back, to_flat[a, 1] * back
            to_local[a, 2] = -(to_flat[a, 0] * u + to_flat[a, 1] * v) * back
            x, y, z = to_local[a, 0], to_local[a, 1], to_local[a, 2]
            by_x, by_y, by_z = z * local[1] - y * local[2], x * local[2] - z * local[0], y * local[0] - x * local[1]
            for i in range(3):
                by_camera[n, a, i] = by_x * left[c, 0, i] + by_y * left[c, 1, i] + by_z * left[c, 2, i]
                world[a, i] = x * turn[0, i] + y * turn[1, i] + z * turn[2, i]
                by_camera[n, a, 3 + i] = 0.0 if only_turns else -near * world[a, i]
            for i in range(2):
                by_point[n, a, i] = (
                    world[a, 0] * across[p, 0, i] + world[a, 1] * across[p, 1, i] + world[a, 2] * across[p, 2, i]
                )
            moved = world[a, 0] * place[0] + world[a, 1] * place[1] + world[a, 2] * place[2]
            by_point[n, a, 2] = 0.0 if only_turns else -moved
            flat = u if a == 0 else v
            if free_focal:
                by_lens[n, a, 0] = grown * flat
            if free_bend:
                by_lens[n, a, by_lens.shape[2] - 1] = focal * square * flat


@kernel
def normal_sums(weights, off, by_camera, by_lens, by_point, slot, camera, point, sums):  # type: ignore[no-untyped-def]
    """Adds all views to the normal equations. weights (n), off (n, 2); slot: which of the cameras that move each is, or
    -1. sums, see `bundle.Normal`: cameras (k, k), side (k), points (p, 3, 3), point_side (p, 3), view_ties (n, 6, 3),
    lens_ties (p, l, 3)."""
    cameras, side, points, point_side, view_ties, lens_ties = sums
    lens = by_lens.shape[2]
    lens_at = side.size - lens
    for n in range(weights.size):
        p, own = point[n], slot[camera[n]]
        first = 6 * own
        for a in range(2):
            w, rest = weights[n], off[n, a]
            for i in range(3):
                share = w * by_point[n, a, i]
                point_side[p, i] += share * rest
                for j in range(3):
                    points[p, i, j] += share * by_point[n, a, j]
            for i in range(lens):
                share = w * by_lens[n, a, i]
                side[lens_at + i] += share * rest
                for j in range(lens):
                    cameras[lens_at + i, lens_at + j] += share * by_lens[n, a, j]
                for j in range(3):
                    lens_ties[p, i, j] += share * by_point[n, a, j]
            for i in range(6):
                share = w * by_camera[n, a, i]
                for j in range(3):
                    view_ties[n, i, j] += share * by_point[n, a, j]
                if own < 0:
                    continue
                side[first + i] += share * rest
                for j in range(6):
                    cameras[first + i, first + j] += share * by_camera[n, a, j]
                for j in range(lens):
                    each = share * by_lens[n, a, j]
                    cameras[first + i, lens_at + j] += each
                    cameras[lens_at + j, first + i] += each


@kernel
def laid_out(view_ties, lens_ties, blocks, slot, camera, point, out):  # type: ignore[no-untyped-def]
    """Ties of views (n, 6, 3) and of the lens (p, l, 3), each times its point's block (p, 3, 3), as one matrix of what
    is tied to points, (k, p, 3), that is 0 so far. A camera sees a point once."""
    lens_at = out.shape[0] - lens_ties.shape[1]
    for n in range(camera.size):
        own, p = slot[camera[n]], point[n]
        if own >= 0:
            for i in range(6):
                for j in range(3):
                    out[6 * own + i, p, j] = (
                        view_ties[n, i, 0] * blocks[p, 0, j]
                        + view_ties[n, i, 1] * blocks[p, 1, j]
                        + view_ties[n, i, 2] * blocks[p, 2, j]
                    )
    for p in range(lens_ties.shape[0]):
        for i in range(lens_ties.shape[1]):
            for j in range(3):
                out[lens_at + i, p, j] = (
                    lens_ties[p, i, 0] * blocks[p, 0, j]
                    + lens_ties[p, i, 1] * blocks[p, 1, j]
                    + lens_ties[p, i, 2] * blocks[p, 2, j]
                )
