"""The solver's state: one record per body, joint, shape, pair and contact. SI, world axes unless said.

Records keep what belongs together side by side in memory, and keep the kernels' signatures small, which is
what their compile time hangs on.
"""

import numpy as np

MOST_ROWS = 9
BALL, HINGE, FIXED = 0, 1, 2
SPHERE, CAPSULE, BOX, PLANE = 0, 1, 2, 3
INACTIVE, STICK, SLIP = 0, 1, 2

# Indices into the counters
CONTACTS, ASKED, DONE, FACTORED = 0, 1, 2, 3

_F, _I, _B, _R = np.float64, np.int64, np.bool_, MOST_ROWS

#: Poses are those of the principal axes at the centre of mass.
BODY = np.dtype(
    [
        ("x", _F, 3),
        ("q", _F, 4),
        ("v", _F, 3),
        ("w", _F, 3),
        ("mass", _F),
        ("inertia", _F, 3),  # principal moments
        ("goal_x0", _F, 3),  # keyed pose at the start of the substep, for world drives
        ("goal_q0", _F, 4),
        ("goal_x1", _F, 3),  # and at its end
        ("goal_q1", _F, 4),
        ("goal_frequency", _F),  # Hz, 0: no world drive
        ("goal_ratio", _F),
        ("tv", _F, 3),  # trial velocities of the substep
        ("tw", _F, 3),
        ("x1", _F, 3),  # predicted pose at its end
        ("q1", _F, 4),
        ("w1", _F, 3),
        ("M", _F, (3, 3)),  # world inertia
        ("D", _F, (6, 6)),  # block of the direct solve
        ("f", _F, 6),  # right side, then change of velocity
        ("drive_impulse", _F, 6),
        ("g", _F, 6),  # scratch of a contact
        ("sv", _F, 6),  # trial velocities before a sweep
        ("penetration", _F),  # worst since the last reset, metres
        ("contact", _F),  # sum of normal impulses, N s
        ("of_joint", _I),  # the joint whose child this is, or -1
        ("free", _B),
    ],
    align=True,
)

#: Joints are ordered from the roots to the leaves. ``parent`` -1 is the world.
JOINT = np.dtype(
    [
        ("anchor_p", _F, 3),  # in the parent's frame, at the end of the substep
        ("anchor_c", _F, 3),
        ("frame_p", _F, 4),
        ("frame_c", _F, 4),
        ("limits", _F, 4),  # swing y, swing z, twist from, twist to
        ("frequency", _F),  # drive, Hz; 0: none
        ("ratio", _F),
        ("damping", _F),  # passive, 1/s
        ("target0", _F, 4),  # keyed relative rotation at the start of the substep
        ("target1", _F, 4),  # and at its end
        ("softness", _F, (3, 3)),  # inverse effective inertia in the parent's joint frame
        ("Jp", _F, (_R, 6)),
        ("Jc", _F, (_R, 6)),
        ("G", _F, (_R, _R)),
        ("bias", _F, _R),
        ("keep", _F, _R),  # part of the residual left for later substeps
        ("impulse", _F, _R),
        ("res", _F, _R),
        ("dl", _F, _R),
        ("Y", _F, (_R, 6)),
        ("W", _F, (_R, 6)),
        ("S", _F, (_R, _R)),
        ("separation", _F),  # worst since the last reset, metres
        ("excess", _F),  # radians beyond a limit
        ("row_kind", _I, _R),
        ("active", _I, 2),  # swing limit on; twist limit -1, 0, 1
        ("flips", _I, 2),
        ("parent", _I),
        ("child", _I),
        ("kind", _I),
        ("rows", _I),
        ("limited", _B),
    ],
    align=True,
)

#: Shapes in their bodies' frames; body -1 is the world.
SHAPE = np.dtype(
    [
        ("position", _F, 3),
        ("rotation", _F, 4),
        ("extent", _F, 3),  # radius and half length, or half extents
        ("reach", _F),  # radius of the bounding sphere
        ("friction", _F),
        ("restitution", _F),
        ("at", _F, 3),  # in the world, at the start of the substep
        ("r", _F, (3, 3)),
        ("body", _I),
        ("kind", _I),
    ],
    align=True,
)

#: Shapes that may collide, kind[a] <= kind[b]; speed of an impact about to bounce: this substep, the next.
PAIR = np.dtype([("incoming", _F, 2), ("a", _I), ("b", _I)], align=True)

#: Contact points of the substep. Normals point from b to a; a is free.
CONTACT = np.dtype(
    [
        ("point", _F, 3),
        ("normal", _F, 3),
        ("tangent", _F, (2, 3)),
        ("gap", _F),
        ("target", _F),  # wanted normal speed, at least
        ("friction", _F),
        ("stiffness", _F),
        ("impulse", _F, 3),  # normal, two tangents
        ("guess", _F, 3),  # the impulse of the pass before
        ("applied", _F, 3),  # of a swept contact, what the direct solve already has
        ("flips", _I),
        ("shapes", _I, 2),
        ("a", _I),
        ("b", _I),
        ("pair", _I),
        ("state", _I),
    ],
    align=True,
)

#: Springs that pull a point of a body to a place in the world; body -1: none.
TUG = np.dtype(
    [
        ("point", _F, 3),  # in the body's frame
        ("goal", _F, 3),
        ("frequency", _F),
        ("mass", _F),  # that the spring is tuned for
        ("impulse", _F, 3),
        ("body", _I),
    ],
    align=True,
)
