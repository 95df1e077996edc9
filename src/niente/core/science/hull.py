"""What lies inside of what was measured: the convex hull of points."""

import numpy as np

from niente.core.science.arrays import Array, Mask, Vector


def in_hull(points: Array, here: Vector, slack: Vector) -> bool:
    """Return whether a point ``(d,)`` lies in the convex hull of points ``(n, d)``, each coordinate give or take its slack.

    A linear programme: are there shares of the points, none negative and one in all, that come to the point (definition of
    the convex hull)? It also holds where the points lie in a plane of fewer dimensions.
    """
    from scipy.optimize import linprog

    n = points.shape[0]
    scaled = points / slack
    target = here / slack
    found = linprog(
        np.zeros(n),
        A_ub=np.vstack([scaled.T, -scaled.T]),
        b_ub=np.concatenate([target + 1.0, -(target - 1.0)]),
        A_eq=np.ones((1, n)),
        b_eq=[1.0],
        bounds=(0.0, None),
    )
    return bool(found.status == 0)


def inside_hull(points: Array, queries: Array, slack: Vector) -> Mask:
    """Return which of many points ``(m, d)`` lie in the hull of points ``(n, d)``, as ``in_hull`` does for one.

    By the hull's facets, with the slack measured along each of them; coordinates in which the points hardly differ are held to
    their range. Where the points still lie in a plane, point by point.
    """
    from scipy.spatial import ConvexHull, QhullError

    low, high = points.min(axis=0), points.max(axis=0)
    found: Mask = np.all((queries >= low - slack) & (queries <= high + slack), axis=1)
    varied = np.flatnonzero(high - low > 2.0 * slack)
    if varied.shape[0] < 2 or not found.any():
        return found
    queried = np.flatnonzero(found)
    try:
        hull = ConvexHull(points[:, varied] / slack[varied])
    except QhullError:
        found[queried] = [in_hull(points[:, varied], here, slack[varied]) for here in queries[np.ix_(queried, varied)]]
        return found
    normals, offsets = hull.equations[:, :-1], hull.equations[:, -1]
    # a box of half a slack each way touches a facet at the sum of its normal's parts
    reach = np.abs(normals).sum(axis=1)
    found[queried] = np.all(queries[np.ix_(queried, varied)] / slack[varied] @ normals.T + offsets <= reach + 1e-9, axis=1)
    return found
