"""Shapes: curves, handles, soft edges, growth, riding, motion blur, SVG."""

from xml.etree import ElementTree

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zonal_mantle.matte import build_matte, outline, shape_alpha
from zonal_mantle.matte.shapes import standing, union
from zonal_mantle.shot import Matte, Shape, ShapeKey, ShotError, ellipse_key, rectangle_key
from zonal_mantle.shot.svg import shapes_from_svg, shapes_to_svg

SIZE = (96, 80)


def ellipse(cx: float, cy: float, rx: float, ry: float, **more: object) -> Shape:
    key = ellipse_key(1, (cx - rx, cy - ry), (cx + rx, cy + ry))
    return Shape(id="e", form="curve", keys=(key,), **more)


@settings(max_examples=40, deadline=None)
@given(st.floats(0, 1), st.floats(0, 1), st.floats(4, 30), st.floats(4, 25))
def test_an_ellipse_covers_its_area_at_any_place(x, y, rx, ry):
    alpha = shape_alpha(ellipse(46 + x, 39 + y, rx, ry), 1, SIZE)
    assert alpha.sum() == pytest.approx(np.pi * rx * ry, rel=2e-3)


@settings(max_examples=30, deadline=None)
@given(st.floats(0, 1), st.floats(0, 1), st.floats(0, 90))
def test_a_turned_rectangle_covers_its_area_at_any_place(x, y, degrees):
    a = np.deg2rad(degrees)
    turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
    corners = np.array(rectangle_key(1, (-20, -9), (20, 9)).points) @ turn.T + [47 + x, 40 + y]
    shape = Shape(id="r", keys=(ShapeKey(frame=1, points=tuple(map(tuple, corners.tolist()))),))
    assert shape_alpha(shape, 1, SIZE).sum() == pytest.approx(720, rel=2e-3)


@pytest.mark.parametrize("share", [0.1, 0.5, 0.83])
def test_a_point_put_into_a_curve_leaves_it_as_it_is(share):
    # published: de Casteljau's construction splits a Bézier arc exactly
    before = ellipse(48, 40, 30, 20)
    after = before.with_point_inserted(1, share)
    assert len(after.keys[0].points) == 5
    assert np.abs(shape_alpha(before, 1, SIZE) - shape_alpha(after, 1, SIZE)).max() < 0.02
    assert shape_alpha(after, 1, SIZE).sum() == pytest.approx(shape_alpha(before, 1, SIZE).sum(), rel=1e-3)


def test_a_smooth_shape_given_handles_looks_the_same():
    smooth = Shape(id="s", form="smooth", keys=(ShapeKey(frame=1, points=((20, 20), (70, 15), (75, 60), (30, 65))),))
    assert np.abs(outline(smooth, 1) - outline(smooth.as_curve(), 1)).max() < 1e-9


def test_a_corner_is_sharp_and_can_be_made_smooth_again():
    shape = ellipse(48, 40, 30, 20)
    corner = shape.with_corner(0, True)
    assert corner.is_corner(0)
    assert not corner.is_corner(1)
    assert not corner.with_corner(0, False).is_corner(0)
    assert shape_alpha(corner, 1, SIZE).sum() < shape_alpha(shape, 1, SIZE).sum()


def test_feather_inside_and_outside_apart():
    shape = ellipse(48, 40, 30, 25)
    hard = shape_alpha(shape, 1, SIZE)
    inside = shape_alpha(shape.but(feather_in_px=8), 1, SIZE)
    outside = shape_alpha(shape.but(feather_out_px=8), 1, SIZE)
    assert inside[hard == 0].max() < 0.05
    assert outside[hard == 1].min() > 0.95
    y, x = np.mgrid[0:80, 0:96] + 0.5
    line = np.hypot((x - 48) / 30, (y - 40) / 25)
    assert inside[line < 0.6].min() == 1
    assert outside[line > 1.5].max() == 0


def test_feather_is_a_smooth_step_by_distance():
    plane = Shape(id="p", keys=(rectangle_key(1, (-900, -900), (50, 900)),), feather_in_px=6, feather_out_px=10)
    line = shape_alpha(plane, 1, (100, 9))[4]
    at = np.arange(100) + 0.5
    u = np.clip((10 - (at - 50)) / 16, 0, 1)
    assert line == pytest.approx(u * u * (3 - 2 * u), abs=2e-3)


def test_a_wide_feather_is_drawn_smaller_and_looks_the_same():
    plane = Shape(id="p", keys=(rectangle_key(1, (-900, -900), (200, 900)),), feather_in_px=90, feather_out_px=90)
    line = shape_alpha(plane, 1, (400, 9))[4]
    u = np.clip((90 - (np.arange(400) + 0.5 - 200)) / 180, 0, 1)
    assert line == pytest.approx(u * u * (3 - 2 * u), abs=0.01)


def test_each_point_may_have_its_own_share_of_the_feather():
    shape = Shape(
        id="p", keys=(rectangle_key(1, (20, 20), (80, 60)),), feather_out_px=10, feather_shares=(0.0, 0.0, 2.0, 2.0)
    )
    alpha = shape_alpha(shape, 1, SIZE)
    assert alpha[:19, 50].max() < 0.05  # the upper side is hard
    assert alpha[70, 50] > 0.05  # the lower one is twice as soft


def test_growth_moves_the_outline_by_its_width():
    disc = ellipse(48, 40, 20, 20)
    for by in (-6.5, -0.7, 0.7, 5.0):
        assert shape_alpha(disc.but(grow_px=by), 1, SIZE).sum() == pytest.approx(np.pi * (20 + by) ** 2, rel=0.01)


def test_inverted_it_works_outside():
    shape = ellipse(48, 40, 20, 20)
    both = shape_alpha(shape, 1, SIZE) + shape_alpha(shape.but(invert=True), 1, SIZE)
    assert both == pytest.approx(1)


def test_keys_are_joined_by_straight_in_betweens_of_points_and_handles():
    a, b = ellipse_key(1, (10, 10), (30, 30)), ellipse_key(11, (50, 20), (90, 60))
    shape = Shape(id="e", form="curve", keys=(a, b))
    middle = shape_alpha(shape, 6, SIZE)
    assert middle.sum() == pytest.approx(np.pi * 15 * 15, rel=3e-3)
    y, x = np.mgrid[0:80, 0:96] + 0.5
    assert [(middle * v).sum() / middle.sum() for v in (x, y)] == pytest.approx([45, 30], abs=0.02)


def motion(frame: int) -> np.ndarray:
    a = np.deg2rad(3.0 * (frame - 1))
    return np.array([[np.cos(a), -np.sin(a), 2.7 * (frame - 1)], [np.sin(a), np.cos(a), 1.1 * (frame - 1)], [0, 0, 1]])


def test_a_shape_keyed_at_two_frames_rides_a_lock_without_sliding():
    # keys are corrections in the lock's own space: the point stays on the same piece of scenery
    start, end = rectangle_key(1, (20, 20), (60, 50)), rectangle_key(9, (22, 21), (62, 51))
    shape = Shape(id="r", keys=(start, end), rides="hills")
    for frame in (1, 4, 9):
        held = standing(shape, frame, lambda shape, f: motion(f))
        points = np.frombuffer(held.outlines[0]).reshape(-1, 2)
        own = np.array(shape.points_at(frame))
        expected = own @ motion(frame)[:2, :2].T + motion(frame)[:2, 2]
        assert np.abs(points - expected).max() < 1e-9
    # and the drawn pixels follow to a tenth of a pixel: centres of gravity
    for frame in (3, 6):
        alpha = shape_alpha(shape, frame, SIZE, ride=lambda shape, f: motion(f))
        y, x = np.mgrid[0:80, 0:96] + 0.5
        centre = np.array([(alpha * x).sum(), (alpha * y).sum()]) / alpha.sum()
        own = np.mean(shape.points_at(frame), axis=0)
        assert centre == pytest.approx(motion(frame)[:2, :2] @ own + motion(frame)[:2, 2], abs=0.1)


def test_motion_blur_is_the_mean_over_the_shutter():
    keys = (rectangle_key(1, (10, 20), (30, 60)), rectangle_key(3, (50, 20), (70, 60)))
    shape = Shape(id="r", keys=keys, shutter=0.5)
    alpha = shape_alpha(shape, 2, SIZE)
    assert alpha.sum() == pytest.approx(800, rel=1e-3)
    # 20 px a frame, half a frame open: the edge at x = 30 is a ramp of 10 px
    assert alpha[40, 25:36] == pytest.approx(np.clip((np.arange(25, 36) + 0.5 - 25) / 10, 0, 1), abs=0.08)
    still = shape.but(keys=(keys[0],))
    assert np.array_equal(shape_alpha(still, 1, SIZE), shape_alpha(still.but(shutter=0.0), 1, SIZE))


def test_riding_shapes_need_their_lock_only_where_they_ride():
    from zonal_mantle.matte import Surroundings

    shape = Shape(id="r", mode="keep", keys=(rectangle_key(1, (20, 20), (60, 50)),), rides="hills")
    plate = np.zeros((80, 96, 3), np.float32)
    here, later = (
        build_matte(plate, Matte(), f, 1.0, Surroundings(keep=(standing(shape, f, lambda s, at: motion(at)),))).alpha
        for f in (1, 5)
    )
    assert here[25, 25] == 1
    assert np.abs(here - later).max() == 1


def test_the_same_shape_is_drawn_once():
    shape = ellipse(48, 40, 20, 15)
    held = (standing(shape, 1),)
    assert union(held, SIZE) is union((standing(shape.but(id="other", name="Other"), 7),), SIZE)


def test_svg_goes_out_and_comes_back():
    shapes = [
        ellipse(48.25, 40.5, 20, 15).but(name="Crown & top"),
        Shape(id="d", name="Sky", mode="drop", keys=(rectangle_key(1, (2, 3), (90, 20)),)),
        Shape(id="s", name="Hill", form="smooth", keys=(ShapeKey(frame=1, points=((20, 20), (70, 15), (75, 60))),)),
    ]
    back = shapes_from_svg(shapes_to_svg(shapes, 1, SIZE), 1)
    assert [(s.name, s.mode) for s in back] == [("Crown & top", "keep"), ("Sky", "drop"), ("Hill", "keep")]
    for a, b in zip(shapes, back):
        assert np.abs(shape_alpha(a, 1, SIZE) - shape_alpha(b, 1, SIZE)).max() < 2e-3


def test_svg_from_elsewhere_is_read_with_its_transforms():
    # published: SVG 1.1, chapters 8 and 9: basic shapes, relative commands, transforms
    text = """<svg xmlns="http://www.w3.org/2000/svg"><g transform="translate(10 5)">
      <rect x="0" y="0" width="20" height="10"/><circle cx="40" cy="40" r="12" class="drop"/>
      <path d="m 0 50 h 10 v 10 h -10 z"/><polygon points="60,0 70,0 65,12"/></g></svg>"""
    areas = [shape_alpha(shape, 1, SIZE).sum() for shape in shapes_from_svg(text, 1)]
    assert areas == pytest.approx([200, np.pi * 144, 100, 60], rel=3e-3)
    rectangle, circle, *_ = shapes_from_svg(text, 1)
    assert rectangle.points_at(1)[0] == (10, 5)
    assert circle.mode == "drop"


@pytest.mark.parametrize("text", ["", "not svg <", "<svg xmlns='http://www.w3.org/2000/svg'><line x2='3'/></svg>"])
def test_svg_without_an_outline_says_so(text):
    with pytest.raises(ShotError, match=r"leaves\.svg"):
        shapes_from_svg(text, 1, "leaves.svg")


def test_a_shape_with_two_points_or_unequal_keys_is_refused():
    with pytest.raises(ValueError, match="at least three points"):
        Shape(id="s", keys=(ShapeKey(frame=1, points=((0, 0), (1, 1))),))
    with pytest.raises(ValueError, match="needs handles"):
        Shape(id="s", form="curve", keys=(ShapeKey(frame=1, points=((0, 0), (1, 1), (2, 0))),))
    with pytest.raises(ValueError, match="feather share"):
        Shape(id="s", keys=(rectangle_key(1, (0, 0), (9, 9)),), feather_shares=(1.0,))


def test_any_name_of_a_shape_is_read_back_from_svg():
    """By Python's own XML parser: what stands in an attribute is what was named."""
    names = ["a \"b\" <c> & 'd'", "tab\tline\nend\r", "Öl é ☃"]
    shapes = [Shape(id=f"s{k}", name=name, keys=(rectangle_key(1, (0, 0), (9, 9)),)) for k, name in enumerate(names)]
    root = ElementTree.fromstring(shapes_to_svg(shapes, 1, (64, 48)))
    assert [path.get("id") for path in root] == names
