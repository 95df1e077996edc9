"""What lies inside of what was measured."""

import numpy as np
import pytest

from niente.core.science.hull import in_hull, inside_hull


def test_a_hull_holds_what_is_between_and_nothing_else() -> None:
    """The unit square, and a line in a plane: the definition of the convex hull."""
    square, slack = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0]]), np.array([1e-6, 1e-6])
    assert in_hull(square, np.array([0.3, 0.7]), slack)
    assert not in_hull(square, np.array([1.1, 0.5]), slack)
    triangle = square[:3]
    assert not in_hull(triangle, np.array([0.8, 0.8]), slack)
    line = np.array([[0.0, 5.0], [10.0, 5.0]])
    assert in_hull(line, np.array([4.0, 5.0]), slack)
    assert not in_hull(line, np.array([4.0, 5.1]), slack)
    assert in_hull(line, np.array([4.0, 5.1]), np.array([0.2, 0.2]))


def test_many_places_are_told_as_one_is() -> None:
    """Facet by facet against the linear programme, in two and three dimensions and in a plane within them."""
    rng = np.random.default_rng(4)
    for dims in (2, 3):
        points, queries = rng.uniform(0, 10, (20, dims)), rng.uniform(-1, 11, (80, dims))
        slack = np.full(dims, 1e-6)
        assert inside_hull(points, queries, slack).tolist() == [in_hull(points, here, slack) for here in queries]
    flat = np.column_stack([rng.uniform(0, 10, 12), rng.uniform(0, 10, 12), np.full(12, 3.0)])
    here = np.column_stack([rng.uniform(0, 10, 40), rng.uniform(0, 10, 40), np.full(40, 3.0)])
    slack = np.array([1e-6, 1e-6, 0.5])
    assert inside_hull(flat, here, slack).tolist() == [in_hull(flat[:, :2], one[:2], slack[:2]) for one in here]
    assert not inside_hull(flat, here + np.array([0.0, 0.0, 1.0]), slack).any()
    on_a_line = np.column_stack([np.linspace(0, 10, 6), np.linspace(0, 20, 6)])
    told = inside_hull(on_a_line, np.array([[5.0, 10.0], [5.0, 13.0]]), np.array([0.1, 0.1]))
    assert told.tolist() == [True, False]


@pytest.mark.parametrize(("y", "inside"), [(1.0, True), (1.19, True), (1.21, False), (0.81, True), (0.79, False)])
def test_beside_a_line_each_coordinate_has_its_slack(y: float, inside: bool) -> None:
    """Points on y = x, give or take 0.1 each way: at x = 1 that reaches from 0.8 to 1.2 (arithmetic)."""
    points, slack = np.array([[0.0, 0.0], [0.5, 0.5], [1.0, 1.0], [2.0, 2.0]]), np.array([0.1, 0.1])
    assert in_hull(points, np.array([1.0, y]), slack) is inside
