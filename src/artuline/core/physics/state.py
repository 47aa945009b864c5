"""The solver's state: one record per body, joint, shape, pair and contact. SI, world axes unless said.

Records keep what belongs together side by side in memory, and keep the kernels' signatures small, which is
what their compile time hangs on. Kernels name whole arrays by a letter, everywhere the same:

    B  bodies (BODY)                 S  shapes (SHAPE)             J  joints and links (JOINT)
    P  near pairs of shapes (PAIR)   Q  spare room for pairs       H  slots of the hash of pairs
    X  who does not collide (lists)  C  contacts (CONTACT)         O  memory of contacts, two halves
    T  tugs (TUG)                    K  counters (CONTACTS ...)    G  hulls and meshes
    E  the elimination's blocks      V  velocities, lane by lane   W  scratch
    A  which bodies hang together    h  seconds of a substep       order  the order of elimination
"""

import numpy as np

BALL, HINGE, FIXED, SLIDE, AXES, TIE, WELD, PIN = range(8)
SPHERE, CAPSULE, BOX, HULL, MESH, SKIN, PLANE = range(7)
INACTIVE, PUSHING = 0, 1
FREE, LOCKED, LIMITED = 0, 1, 2

# Rows of a joint: three places along the parent's axes, twist, two swings, and the cone of both swings
TWIST, SWING_Y, SWING_Z, CONE = 3, 4, 5, 6
ROWS = 7

#: Neighbours that a body may have in the factors, its parent among them.
MOST_NEIGHBOURS = 48

# Indices into the counters
CONTACTS, ASKED, DONE, FACTORED, SOLVED, NEAR, SWEPT, HALTED, PATTERN, SMOOTH, FULL, HALF, BROKEN = range(13)
COUNTERS = 13

# Rows of the array of hulls and meshes: scratch of the contact search, then their data
SIMPLEX, WITNESS, POLYGON, TRIANGLE, SKINNED, HULLS = 0, 4, 8, 40, 50, 178
HULL_COLUMNS = 10
#: Bodies that may move the vertices of a patch of skin.
PATCH_BONES = 8

_F, _I, _B = np.float64, np.int64, np.bool_

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
        ("goal_damping", _F),  # against the keyed velocity, 1/s
        ("drag", _F, 2),  # of the linear and the angular velocity, 1/s
        ("area", _F, 3),  # drag coefficient times the m^2 that the air meets along each principal axis
        ("push", _F, 6),  # force and torque of the substep from outside
        ("lever", _F, (3, 3)),  # arms in the body's frame times the forces that push there, summed, N m
        ("last", _F),  # length of the substep before, 0: the velocity is that of this moment
        ("chord", _F, 6),  # of a keyed body: mean velocities of the last substep but one
        ("fv", _F, 3),  # velocities of the substep before any impulse
        ("fw", _F, 3),
        ("pull", _F, 6),  # what the impulses of the substep before changed of the velocities, per second
        ("tv", _F, 3),  # trial velocities of the substep
        ("tw", _F, 3),
        ("x1", _F, 3),  # predicted pose at its end
        ("q1", _F, 4),
        ("w1", _F, 3),
        ("M", _F, (3, 3)),  # world inertia
        ("D", _F, (6, 6)),  # block of the direct solve, then its factor
        ("f", _F, 6),  # right side, then change of velocity
        ("g", _F, 6),  # velocities while hits are passed on; the right side of a damped solve
        ("was", _F, 6),  # velocities at the start of the substep before
        ("penetration", _F),  # worst since the last reset, metres
        ("contact", _F),  # sum of normal impulses, N s
        ("listed", _F, 3),  # velocity when the list of near pairs was made
        ("fastest", _F),  # change of it that the list allows for
        ("began", _F, 3),  # the same of the frame's first list
        ("allowed", _F),
        ("reach", _F),  # radius around the centre of mass that holds its shapes
        ("rest", _F),  # seconds that it has been at rest for
        ("felt", _F, 6),  # ``push`` of the frame before
        ("before", _F),  # ``contact`` as the frame began
        ("strongest", _F),  # hardest normal impulse since the last reset, N s, and where
        ("touch", _F, 3),
        ("taut", _F),  # of a part of a line: N m that its pull turns it back with, per radian across the axis
        ("axis", _F, 3),
        ("up", _I, MOST_NEIGHBOURS),  # the neighbours that are eliminated later
        ("first", _I),  # of their blocks in E, one after the other
        ("neighbours", _I),
        ("rank", _I),  # place in the order of elimination
        ("keyed", _I),  # substeps that it has been keyed for, two at most
        ("of_joint", _I),  # the joint whose child this is, or -1
        ("id", _I),  # its place in the world, whatever its place in an island
        ("into", _I),  # what it was pressed into most deeply, by ``id``; -1: the ground
        ("cell", _I),  # the tree of joints that it is in, by its place in the island; -1: on its keys
        ("group", _I),  # of bodies that do not collide, -1: none
        ("free", _B),
        ("line", _B),  # a part of a line, which may be taut
        ("strayed", _B),  # its velocity has changed by more than the frame's first list allowed for
    ],
    align=True,
)

#: What couples two bodies in the matrix, then in its factors.
BLOCK = np.dtype([("m", _F, (6, 6))], align=True)

#: Bodies side by side, for what is the same for all: poses at the start of a substep and velocities, then those at its end.
LANES = 8
LANE = np.dtype(
    [
        ("q", _F, (4, LANES)),
        ("inertia", _F, (3, LANES)),
        ("w", _F, (3, LANES)),
        ("q1", _F, (4, LANES)),
        ("w1", _F, (3, LANES)),
    ],
    align=True,
)

#: Joints and links. ``parent`` -1 is the world. Joints of trees come first, from the roots to the leaves.
JOINT = np.dtype(
    [
        ("anchor_p", _F, 3),  # in the parent's frame, at the end of the substep
        ("anchor_c", _F, 3),
        ("frame_p", _F, 4),
        ("frame_c", _F, 4),
        ("low", _F, 6),  # ranges of the axes; of a cone, ``high`` of the swings are its half angles
        ("high", _F, 6),
        ("limit_frequency", _F),  # Hz of soft limits, 0: hard
        ("limit_ratio", _F),
        ("bounce", _F),
        ("spring_frequency", _F),  # Hz of the pull to the middle of the linear ranges
        ("spring_ratio", _F),
        ("frequency", _F),  # drive, Hz; 0: none
        ("ratio", _F),
        ("damping", _F),  # passive, 1/s
        ("bend_frequency", _F),  # Hz of the spring back to where the frames agree, while there is no drive; 0: none
        ("bend_ratio", _F),
        ("feels", _F, 4),  # mass, inertia about x, y and z that springs are tuned for; zeros: what hangs on the joint
        ("friction", _F),  # N m
        ("grip", _F),  # impulse that friction can give in the substep, N m s; viscosity while it holds
        ("hold", _F),
        ("way", _F, 3),  # against which it rubs while the joint slips; zero while it holds
        ("turns", _I),
        ("break_force", _F),  # N, 0: never
        ("break_torque", _F),  # N m, 0: never
        ("target0", _F, 4),  # keyed relative rotation at the start of the substep
        ("target1", _F, 4),  # and at its end
        ("effective", _F, (3, 3)),  # inertia in the parent's joint frame that a drive feels
        ("scale", _F, 2),  # mass and inertia that hard rows are scaled by
        ("feel", _F),  # mass that linear springs are tuned for
        ("dir", _F, (ROWS, 3)),  # world direction of each row
        ("k", _F, ROWS),  # stiffness of each row
        ("lam", _F, ROWS),  # impulse of each row
        ("res", _F, ROWS),  # residual of each row as a velocity
        ("keep", _F, ROWS),  # part of the residual left for later substeps
        ("yields", _I, ROWS),  # 1: more is asked for than it can give
        ("wanted", _F, ROWS),  # speed at which a struck limit is left
        ("spring_k", _F, 3),  # stiffness of the pull to the middle, and its impulse at rest
        ("spring_aim", _F, 3),
        ("area", _F),  # m^2 of the face across x that it stands for in a soft part
        ("bulk", _F),  # Pa for every m^3 that the part lost, 0: none
        ("bulk_time", _F),  # s, by which that is damped
        ("opened", _F),  # m^3 that it let through at the start of the substep, with its speed over that time
        ("Kd", _F, (3, 3)),  # the drive's part, and what it aims at
        ("aim", _F, 3),
        ("rc", _F, 3),  # arms to the child's anchor
        ("rp", _F, 3),
        ("pulled", _F, 3),  # force on the child at the point in the substep before, N
        ("pulling", _F, 2),  # ``tight`` as the force of the substep before has it
        ("tight", _F, 2),  # N m that the child and the parent are turned back with by what it pulls, per radian
        ("load", _F, 3),  # impulse at the point since the start of the frame
        ("strain", _F, 6),  # force and moment that it carried lately, of what can break
        ("separation", _F),  # worst since the last reset, metres
        ("excess", _F),  # radians beyond a limit
        ("used", _F),  # share of the limits in use
        ("slack", _F),  # radians it may turn at least before a limit is met; 0: look
        ("mode", _I, 6),
        ("state", _I, ROWS),  # 0: off, -1 and 1: at the low and at the high end, 1: locked
        ("soft", _I, ROWS),
        ("flips", _I, ROWS),
        ("parent", _I),
        ("child", _I),
        ("kind", _I),
        ("swells", _I),  # the part whose volume it has to do with
        ("broken", _I),  # 0: it broke, -1: whole
        ("cone", _B),  # both swings share an elliptical cone
        ("live", _B),  # joins something in this substep
        ("on", _B),
        ("swelled", _B),  # the pressure of its part in this substep is known
        ("driven", _B),
        ("looped", _B),  # closes a loop of what is joined
    ],
    align=True,
)

#: Shapes in their bodies' frames; body -1 is the world.
SHAPE = np.dtype(
    [
        ("position", _F, 3),
        ("rotation", _F, 4),
        ("extent", _F, 3),  # radius and half length, or half extents
        ("margin", _F),  # thickness added on all sides
        ("reach", _F),  # radius of the bounding sphere
        ("thin", _F),  # half of its thickness: what is deeper than that in another is inside of it
        ("speed", _F),  # bound on how fast any of its points moves at the start of the substep
        ("friction", _F),
        ("rolling", _F),  # lever at which a push resists rolling, m
        ("restitution", _F),
        ("at", _F, 3),  # in the world, at the start of the substep
        ("r", _F, (3, 3)),
        ("low", _F, 3),  # corners of a box that holds it for as long as the list of near pairs is good
        ("high", _F, 3),
        ("flow", _F),  # m/s at most that a patch of skin moves besides its body
        ("first", _I, 3),  # of a hull's or mesh's vertices, faces and edges
        ("count", _I, 3),
        ("body", _I),
        ("kind", _I),
        ("id", _I),  # its place in the world, whatever its place in an island
        ("rank", _I),  # of two of a kind, the lower is the first of the pair
        ("bones", _I, PATCH_BONES),  # bodies that move a patch of skin, -1: none
        ("silent", _B),  # touches nothing
        ("drapes", _B),  # touches the skin of bodies that have one, not them
        ("skinned", _B),  # has skin around it
    ],
    align=True,
)

#: Shapes that are near each other, kind[a] <= kind[b]; speed of an impact about to bounce: this substep, the next; its
#: contacts among those remembered: the first, and how many; where the table holds it.
PAIR = np.dtype([("incoming", _F, 2), ("a", _I), ("b", _I), ("old", _I), ("olds", _I), ("slot", _I)], align=True)

#: Contact points of the substep. Normals point from b to a; a is free.
CONTACT = np.dtype(
    [
        ("point", _F, 3),
        ("normal", _F, 3),
        ("gap", _F),
        ("target", _F),  # wanted normal speed, at least
        ("friction", _F),
        ("radius", _F),  # around the core of body a's shape
        ("bounce", _F),  # share of its speed that a hit gives back
        ("mass", _F),  # that the bodies have together for a push at the point
        ("stiffness", _F),
        ("firm", _F),  # what it is as long as it does not give way; 0: it does not
        ("push", _F),  # normal impulse
        ("hold", _F),  # the one that friction goes by, which follows with some delay
        ("rubbing", _F),  # viscosity that stands for the friction
        ("slide", _F),  # speed of sliding, as friction was estimated for, and after the last solve
        ("slide_now", _F),
        ("slid", _F),  # and in the substep before
        ("rolling", _F),  # lever of the push that resists rolling, m
        ("turning", _F),  # viscosity that stands for that, N m s
        ("line", _F, 2),  # how far it is pressed at the start of a damped step, as a speed, and at its end
        ("bend", _F, 3),  # what the curve of the bodies' motion adds to the relative velocity of the trial
        ("carry", _F, 3),  # velocity against a skin that comes from its deforming
        ("ra", _F, 3),  # arms
        ("rb", _F, 3),
        ("impulse", _F, 3),  # of a swept contact
        ("applied", _F, 3),  # what the next solve applies of it
        ("weight", _F, 2),  # mass that each body weighs in with
        ("flips", _I),
        ("turns", _I),
        ("shapes", _I, 2),
        ("a", _I),
        ("b", _I),
        ("pair", _I),
        ("feature", _I),
        ("state", _I),
        ("swept", _B),
        ("slow", _B),  # slides by less than what acts on it without friction changes its speed by
        ("old", _B),  # was there in the substep before
    ],
    align=True,
)

#: What is remembered of a contact from one substep to the next.
MEMORY = np.dtype(
    [("hold", _F), ("force", _F, 3), ("feature", _I), ("state", _I), ("found", _B), ("slide", _F), ("slid", _F)],
    align=True,
)

#: Springs that pull a point of a body to a place in the world; body -1: none.
TUG = np.dtype(
    [
        ("point", _F, 3),  # in the body's frame
        ("goal", _F, 3),
        ("arm", _F, 3),
        ("frequency", _F),
        ("mass", _F),  # that the spring is tuned for
        ("body", _I),
    ],
    align=True,
)
