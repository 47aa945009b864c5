"""Contacts and friction: stiff rows of the direct solve that only push, and rub no harder than they push.

A contact's normal impulse is ``max(0, k (target - v))``, k being 1e5 of the inverse mass at the point, so that what is
left of v is far below what can be seen; the active set is found by Newton's method, beginning with that of the substep
before. Friction enters the matrix as a viscosity ``mu push / speed`` (Kacanov's iteration for a convex potential, so
that it only ever takes energy), which becomes as stiff as the contact itself where nothing slides; the right side
then has Coulomb's law. Contacts of crowds, where the factors would fill up, are swept instead.
"""

import math

from artuline.core.physics.graph import add_own, add_point, add_turn
from artuline.core.physics.hits import BOUNCE_SPEED, pass_hits
from artuline.core.physics.kernels import NO, YES, compiled, cross, inlined, solve_symmetric
from artuline.core.physics.rolling import add_resistance, resist, resist_anew, rolling_speed
from artuline.core.physics.state import CAPSULE, CONTACTS, INACTIVE, PUSHING

HARD = 1e5  # stiffness of a contact row against the inverse mass at its point
GIVES = 3e-5  # m/s that a contact row gives way by at most
SLOP = 1e-4  # metres of penetration left alone
PUSH = 0.15  # share of a penetration removed in a substep
PUSH_SPEED = 3.0  # m/s at most
PULL = 1e-11  # of the stiffness: a smaller pull is rounding
MOST_FLIPS = 2  # times a contact may let go in a substep, so that none goes round in circles
SLIGHT = 1e-3  # of the hardest push: smaller ones do not begin or cease in a damped step
ENOUGH = 0.1  # share of what the slope promises with which the whole change is taken
LEAST_STEP = 0.01  # share of a change of velocity that is taken at least
SLOW = 0.5  # of the speed that it would slide at without friction: what slides slower is about to hold, or to begin to slide
EXACT = 20.0  # times as exact as others is its friction
GROWS, GROWTH = (
    1.005,
    1.6,
)  # times its speed of the substep before, that says it begins to slide; times, that it is thought to go faster
MOST_TURNS = 3  # times its viscosity may be set anew
STILL = 3e-3  # m/s: slower slides need not have the right friction before the next substep
# of the hardest push: by how much a friction impulse may be wrong, of a slide and of a hit, before the matrix is made anew
WRONG_SLIDE, WRONG_HIT = 0.06, 0.08
HIT = 0.05  # m/s: faster approaches are hits, which push by their own
BURIED = 20.0  # times the mass at its point that a contact of what is inside of another is stiff


@inlined
def both_free(B, C, i):
    """Whether a contact is between two free bodies."""
    return C[i].b >= 0 and B[C[i].b].free


@inlined
def between_free(B, C, K):
    """How many contacts there are between two free bodies, which couple what would be solved apart."""
    count = 0
    for i in range(K[CONTACTS]):
        a, b = C[i].a, C[i].b
        if a >= 0 and b >= 0 and B[a].free and B[b].free:
            count += 1
    return count


@inlined
def relative_speed(B, C, i, trial):
    """Velocity of body a against b at contact i: the trial's, or that at the substep's start."""
    a, b, ra, rb = C[i].a, C[i].b, C[i].ra, C[i].rb
    v, w = (B[a].tv, B[a].tw) if trial else (B[a].v, B[a].w)
    cx, cy, cz = cross(w[0], w[1], w[2], ra[0], ra[1], ra[2])
    ux, uy, uz = v[0] + cx, v[1] + cy, v[2] + cz
    if b >= 0:
        v, w = (B[b].tv, B[b].tw) if trial else (B[b].v, B[b].w)
        cx, cy, cz = cross(w[0], w[1], w[2], rb[0], rb[1], rb[2])
        ux, uy, uz = ux - v[0] - cx, uy - v[1] - cy, uz - v[2] - cz
    e = C[i].carry
    ux, uy, uz = ux + e[0], uy + e[1], uz + e[2]
    if trial:
        e = C[i].bend
        ux, uy, uz = ux + e[0], uy + e[1], uz + e[2]
    return ux, uy, uz


@inlined
def inverse_mass(B, i, r, d):
    """Inverse mass of body i against a push along d at arm r."""
    if i < 0 or not B[i].free:
        return 0.0
    tx, ty, tz = cross(r[0], r[1], r[2], d[0], d[1], d[2])
    sx, sy, sz = solve_symmetric(B[i].M, tx, ty, tz)
    return 1.0 / B[i].mass + tx * sx + ty * sy + tz * sz


@compiled
def prepare_contacts(B, S, P, C, O, K, h, most):
    """Arms, wanted speeds and first states of all contacts. The trial velocities are what the substep's end is likely to be.

    most: the largest impulse that all bodies together can give.
    """
    bounced = False
    for i in range(K[CONTACTS]):
        P[C[i].pair].incoming[1] = 0.0
    for i in range(K[CONTACTS]):
        c = C[i]
        sa, sb = c.shapes[0], c.shapes[1]
        a, b = S[sa].body, S[sb].body
        n = c.normal
        if not (a >= 0 and B[a].free):
            a, b = b, a
            n[0], n[1], n[2] = -n[0], -n[1], -n[2]
            c.carry[0], c.carry[1], c.carry[2] = -c.carry[0], -c.carry[1], -c.carry[2]
        c.a, c.b = a, b
        for k in range(3):
            c.ra[k] = c.point[k] - B[a].x[k]
            c.rb[k] = c.point[k] - B[b].x[k] if b >= 0 else 0.0
            c.impulse[k], c.applied[k], c.bend[k] = 0.0, 0.0, 0.0
        c.push, c.hold, c.firm = 0.0, 0.0, 0.0
        c.flips, c.turns, c.old, c.swept = 0, 0, False, False
        c.slid = math.inf
        c.friction = math.sqrt(S[sa].friction * S[sb].friction)
        c.rolling = max(S[sa].rolling, S[sb].rolling)
        inverse = inverse_mass(B, a, c.ra, n) + inverse_mass(B, b, c.rb, n)
        c.mass = 1.0 / inverse
        ux, uy, uz = relative_speed(B, C, i, NO)
        before = n[0] * ux + n[1] * uy + n[2] * uz
        slid = across(n, ux, uy, uz)
        ux, uy, uz = _free_relative_speed(B, C, i)
        ahead = n[0] * ux + n[1] * uy + n[2] * uz
        ux, uy, uz = relative_speed(B, C, i, YES)
        likely = n[0] * ux + n[1] * uy + n[2] * uz
        slide = across(n, ux, uy, uz)
        c.slow = slid < SLOW * slide
        gap = c.gap
        c.target = -gap / h if gap > 0.0 else 0.0
        e = max(S[sa].restitution, S[sb].restitution)
        c.bounce = e
        s = sa if S[sa].body == a else sb
        c.radius = S[s].extent[0] if S[s].kind <= CAPSULE else 0.0
        p = c.pair
        # an impact first comes up to the surface, then bounces with the speed it came with
        speed = max(-before, P[p].incoming[0])
        if e > 0.0 and speed > BOUNCE_SPEED and gap + h * min(ahead, before) < 1e-6:
            if gap > 0.02 * h * speed:
                P[p].incoming[1] = max(P[p].incoming[1], speed)
            else:
                # of the mean speed of a substep, half of what its free fall adds is missing on both sides
                c.target = max(c.target, e * speed - 0.5 * (1.0 - e) * max(before - ahead, 0.0))
                bounced = True
        c.state = PUSHING if likely < c.target else INACTIVE
        for o in range(P[p].olds):
            m = O[P[p].old + o]
            if m.feature == c.feature:
                c.old, m.found = True, True
                c.hold = m.hold * h
                c.slid = m.slide
                for k in range(3):
                    c.impulse[k] = m.force[k]
                if m.state == PUSHING and before < c.target + 0.05:
                    c.state = PUSHING
                    if c.slow:
                        # what held or hardly slid goes on so, however fast it would fall without friction; what begins to slide goes ever faster
                        slide = slid * (GROWTH if slid > GROWS * m.slid else 1.0)
                elif likely > c.target - 0.02 * speed:
                    c.state = INACTIVE
        if not c.old and (P[p].olds == 0 or c.target - before > HIT):
            c.hold = max(c.target - likely, 0.0) / inverse
            c.old = True
        c.slide = slide
    if bounced:
        pass_hits(B, C, K, h)
    _pass_on(P, C, O, K, h)
    for i in range(K[CONTACTS]):
        # under a load far above the bodies' own weight it must not give way either; what pushes harder than all that there is could, since
        # it is jammed among joints that cannot give way, would push ever harder
        C[i].stiffness = max(HARD * C[i].mass, min(C[i].hold, most) / GIVES)
        if C[i].gap < -min(S[C[i].shapes[0]].thin, S[C[i].shapes[1]].thin):
            # more than half inside: the way out may be any, and must not jam what hangs together
            C[i].stiffness = BURIED * C[i].mass
        rub(C, i, C[i].slide)
        if C[i].rolling > 0.0:
            spin = rolling_speed(B, C, i)[3]
            resist(C, i, spin)


@inlined
def _pass_on(P, C, O, K, h):
    """Contacts that are new where their pair touched before share the push that friction went by at those that are gone."""
    i = 0
    while i < K[CONTACTS]:
        p, end, new = C[i].pair, i, 0
        while end < K[CONTACTS] and C[end].pair == p:
            new += 0 if C[end].old else 1
            end += 1
        left = 0.0
        for o in range(P[p].olds):
            m = O[P[p].old + o]
            left += 0.0 if m.found else m.hold * h
        for k in range(i, end):
            if not C[k].old:
                C[k].hold = left / new
        i = end


@inlined
def across(n, x, y, z):
    """Length of the part of a vector across a unit normal."""
    along = n[0] * x + n[1] * y + n[2] * z
    x, y, z = x - along * n[0], y - along * n[1], z - along * n[2]
    return math.sqrt(x * x + y * y + z * z)


@inlined
def rub(C, i, slide):
    """Set the viscosity that stands for the friction of contact i at a speed of sliding."""
    most = C[i].friction * C[i].hold
    C[i].slide = slide
    C[i].rubbing = C[i].stiffness if most >= C[i].stiffness * slide else most / slide


@compiled
def add_contacts(B, E, C, K, W):
    """Add the stiffness of the contacts that push to the matrix; not of the swept ones."""
    k3 = W[2]
    for i in range(K[CONTACTS]):
        c = C[i]
        if c.swept:
            # the masses that a sweep sees, on each side for itself
            for a in range(3):
                for b in range(3):
                    k3[a, b] = c.weight[0] if a == b else 0.0
            add_own(B, c.a, k3, c.ra, W[0], W[1])
            for a in range(3):
                k3[a, a] = c.weight[1]
            add_own(B, c.b, k3, c.rb, W[0], W[1])
            continue
        if c.state == INACTIVE:
            continue
        n, k, r = c.normal, c.stiffness, c.rubbing
        for a in range(3):
            for b in range(3):
                k3[a, b] = (k - r) * n[a] * n[b] + (r if a == b else 0.0)
        add_point(B, E, c.a, c.b, k3, c.ra, c.rb, W[0], W[1])
        if c.rolling > 0.0:
            for a in range(3):
                for b in range(3):
                    k3[a, b] = c.turning * ((1.0 if a == b else 0.0) - n[a] * n[b])
            add_turn(B, E, c.a, c.b, k3)


@inlined
def _push(B, i, r, x, y, z):
    """Add an impulse at an arm of body i to the right side."""
    if i < 0 or not B[i].free:
        return
    f = B[i].f
    f[0], f[1], f[2] = f[0] + x, f[1] + y, f[2] + z
    tx, ty, tz = cross(r[0], r[1], r[2], x, y, z)
    f[3], f[4], f[5] = f[3] + tx, f[4] + ty, f[5] + tz


@compiled
def contact_forces(B, C, K, linear):
    """Add the contacts' impulses, at the trial velocities, to the right side.

    ``linear``: friction as its viscosity, for the first solve with new factors; else as Coulomb has it.
    """
    for i in range(K[CONTACTS]):
        c = C[i]
        if c.swept:
            x, y, z = c.applied[0], c.applied[1], c.applied[2]
        elif c.state == INACTIVE:
            continue
        else:
            n = c.normal
            ux, uy, uz = relative_speed(B, C, i, YES)
            un = n[0] * ux + n[1] * uy + n[2] * uz
            x, y, z = ux - un * n[0], uy - un * n[1], uz - un * n[2]
            r = c.rubbing
            if not linear and r < c.stiffness:
                r = min(c.friction * c.hold / max(math.sqrt(x * x + y * y + z * z), 1e-12), c.stiffness)
            push = c.stiffness * (c.target - un)
            x, y, z = push * n[0] - r * x, push * n[1] - r * y, push * n[2] - r * z
            # for the work of what the solve makes of it
            c.applied[0], c.applied[1], c.applied[2] = x, y, z
            c.impulse[0], c.impulse[1], c.impulse[2] = ux, uy, uz
            if c.rolling > 0.0:
                add_resistance(B, C, i, linear)
        _push(B, c.a, c.ra, x, y, z)
        _push(B, c.b, c.rb, -x, -y, -z)


@compiled
def update_contacts(B, C, K, catch, release, linear, damped, jam):
    """Impulses after a solve, and new states. ``catch``: contacts may begin to push or change their viscosity,
    ``release``: let go; ``linear``: what the solve took friction for; ``damped``: they may do so as often as it takes; ``jam``: the impulse
    that one gives at most, N s. Returns whether the matrix changed, whether that was since some began or ceased to push, and the largest change of a
    friction impulse, relative to the hardest push.
    """
    changed, unsettled, heavy = False, 0.0, 1e-12
    for i in range(K[CONTACTS]):
        heavy = max(heavy, C[i].push, C[i].hold)
    # in a heap some always push or pull by next to nothing
    slight = SLIGHT * heavy if damped else 0.0
    for i in range(K[CONTACTS]):
        c = C[i]
        if c.swept:
            continue
        n, k = c.normal, c.stiffness
        ux, uy, uz = relative_speed(B, C, i, YES)
        un = n[0] * ux + n[1] * uy + n[2] * uz
        push = k * (c.target - un)
        slide = across(n, ux, uy, uz)
        if c.state == INACTIVE:
            if (catch or damped) and push > max(1e-6 * k, slight):
                c.state = PUSHING
                c.hold = max(c.hold, min(push * c.mass / k, heavy))
                rub(C, i, slide)
                changed = True
            continue
        if push < -max(PULL * k, slight) and (damped or (release and c.flips < MOST_FLIPS)):
            c.state = INACTIVE
            c.flips += 1
            c.push = 0.0
            c.hold *= 0.5
            changed = True
            continue
        c.push = max(push, 0.0)
        c.slide_now = slide
    if changed:
        # while some still pull, what others push is not what friction may go by
        return YES, YES, unsettled
    for i in range(K[CONTACTS]):
        c = C[i]
        if c.swept or c.state == INACTIVE:
            continue
        if catch and (c.push > jam or c.firm > 0.0) and _gives_way(C, i, jam):
            changed = True
            continue
        k, r, slide = c.stiffness, c.rubbing, c.slide_now
        off = abs(c.push - c.hold)
        if catch and c.turns < MOST_TURNS and off > 0.5 * max(c.push, c.hold) and c.friction * off > WRONG_HIT * heavy:
            # a hit, or a sudden relief: friction cannot wait for the next substep
            c.hold = c.push if c.turns == 0 else 0.5 * (c.hold + c.push)
            c.turns += 1
            rub(C, i, slide)
            if c.rubbing < 0.9 * r or c.rubbing > 1.1 * r:
                changed = True
                continue
            c.rubbing = r
        if c.rolling > 0.0 and catch and c.turns < MOST_TURNS and resist_anew(B, C, i, heavy):
            c.turns += 1
            changed = True
        most = c.friction * c.hold
        if r >= k:
            # what held gives way: it will slide about as fast as the rest of the push makes the bare bodies
            if catch and c.turns < MOST_TURNS and k * slide > 1.3 * most + 0.02 * heavy:
                rub(C, i, slide + (k * slide - most) / c.mass)
                c.turns += 1
                changed = changed or c.rubbing < 0.9 * k
        elif slide > STILL:
            wanted = min(most / max(slide, 1e-12), k)
            wrong = abs(wanted - r) * slide > WRONG_SLIDE * heavy and (wanted > 1.8 * r or wanted < 0.25 * r)
            if catch and c.turns < MOST_TURNS and wrong:
                rub(C, i, slide)
                c.turns += 1
                changed = True
            used = r if linear else min(most / max(c.slide, 1e-12), k)
            exact = min(most / max(slide, 1e-12), k)
            unsettled = max(unsettled, abs(used - exact) * slide / heavy * (EXACT if c.slow else 1.0))
            c.slide = slide
    return changed, NO, unsettled


@inlined
def _gives_way(C, i, most):
    """Let contact i, which is asked for more than an impulse ``most``, give that much: what is jammed is pressed in. As what joints that contradict
    each other give, it stands in the matrix as a viscosity. Returns whether that changed.
    """
    c = C[i]
    if c.firm == 0.0:
        c.firm = c.stiffness
    k = min(most * c.stiffness / max(c.push, 1e-12), c.firm)
    if 0.6 * k < c.stiffness < 1.6 * k:
        return False
    c.stiffness = k
    rub(C, i, c.slide_now)
    return True


@compiled
def damped_step(B, C, K, order):
    """The share of the last solve's change of velocity that leaves the contacts with the least energy, at most 1.

    Taken whole, contacts that begin and cease to push may go round in circles. What the velocities minimise is convex: along the change
    its slope is that of the contacts as they were taken, and what those differ by that begin or cease on the way (damped Newton
    method: Nocedal & Wright 2006, ch. 3). ``g`` of the bodies (order): the right side of the solve.
    """
    start = 0.0
    for n in range(order.shape[0]):
        i = order[n]
        if B[i].free:
            for k in range(6):
                start -= B[i].g[k] * B[i].f[k]
    for i in range(K[CONTACTS]):
        c = C[i]
        n = c.normal
        ux, uy, uz = relative_speed(B, C, i, YES)
        pressed = c.target - (n[0] * ux + n[1] * uy + n[2] * uz)
        ux, uy, uz = _change(B, c.a, c.ra)
        if c.b >= 0:
            x, y, z = _change(B, c.b, c.rb)
            ux, uy, uz = ux - x, uy - y, uz - z
        c.line[0], c.line[1] = pressed, pressed - (n[0] * ux + n[1] * uy + n[2] * uz)
    if _fall(C, K, start) <= ENOUGH * start:
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(30):
        middle = 0.5 * (low + high)
        if _slope(C, K, start, middle) > 0.0:
            high = middle
        else:
            low = middle
    return max(low, LEAST_STEP)


@inlined
def _change(B, i, r):
    """What the last solve changes of the velocity of a point of body i."""
    if not B[i].free:
        return 0.0, 0.0, 0.0
    f = B[i].f
    x, y, z = cross(f[3], f[4], f[5], r[0], r[1], r[2])
    return f[0] + x, f[1] + y, f[2] + z


@inlined
def _fall(C, K, start):
    """What the whole change adds to what the velocities minimise."""
    fall = 0.5 * start
    for i in range(K[CONTACTS]):
        c = C[i]
        if (c.state == PUSHING) != (c.line[1] > 0.0):
            fall += 0.5 * c.stiffness * c.line[1] ** 2 * (-1.0 if c.state == PUSHING else 1.0)
    return fall


@inlined
def _slope(C, K, start, t):
    """Slope of what the velocities minimise, at a share t of their change; ``start``: at none of it."""
    slope = start * (1.0 - t)
    for i in range(K[CONTACTS]):
        c = C[i]
        change = c.line[1] - c.line[0]
        pressed = c.line[0] + t * change
        if (c.state == PUSHING) != (pressed > 0.0):
            slope += c.stiffness * pressed * change * (-1.0 if c.state == PUSHING else 1.0)
    return slope


@compiled
def contact_work(B, C, K):
    """Work of the impulses that the last solve gave the contacts, on the mean of the free and the trial velocities; J.

    Without those that bounce: they give back what the substep took that came up to the surface.
    """
    work = 0.0
    for i in range(K[CONTACTS]):
        c = C[i]
        if c.swept or c.state == INACTIVE or c.target > 0.0:
            continue
        n = c.normal
        ux, uy, uz = relative_speed(B, C, i, YES)
        fx, fy, fz = _free_relative_speed(B, C, i)
        # what the last solve began with, less what its matrix took for the change of speed
        dx, dy, dz, r = ux - c.impulse[0], uy - c.impulse[1], uz - c.impulse[2], c.rubbing
        along = (c.stiffness - r) * (n[0] * dx + n[1] * dy + n[2] * dz)
        x = c.applied[0] - along * n[0] - r * dx
        y = c.applied[1] - along * n[1] - r * dy
        z = c.applied[2] - along * n[2] - r * dz
        work += 0.5 * (x * (fx + ux) + y * (fy + uy) + z * (fz + uz))
    return work


@inlined
def _free_speed(B, i, r):
    """Velocity of a point of body i at an arm before any impulse of the substep; keyed bodies have but one."""
    v, w = (B[i].fv, B[i].fw) if B[i].free else (B[i].tv, B[i].tw)
    x, y, z = cross(w[0], w[1], w[2], r[0], r[1], r[2])
    return v[0] + x, v[1] + y, v[2] + z


@inlined
def _free_relative_speed(B, C, i):
    """Velocity of body a against b at contact i before any impulse of the substep."""
    x, y, z = _free_speed(B, C[i].a, C[i].ra)
    if C[i].b >= 0:
        a, b, c = _free_speed(B, C[i].b, C[i].rb)
        x, y, z = x - a, y - b, z - c
    e = C[i].carry
    return x + e[0], y + e[1], z + e[2]


@compiled
def remember(P, C, O, K, base, h):
    """Note the states of the contacts of an accepted substep of length h for the next, in O from ``base`` on."""
    for i in range(K[CONTACTS]):
        c, m = C[i], O[base + i]
        m.feature, m.state, m.found = c.feature, c.state, False
        for k in range(3):
            m.force[k] = c.impulse[k] / h if c.swept else 0.0
        m.slide = c.slide_now if c.state == PUSHING else math.inf
        m.slid = c.slid
        m.hold = (0.5 * (c.hold + c.push) if c.state != INACTIVE else c.hold) / h
        p = c.pair
        if i == 0 or C[i - 1].pair != p:
            P[p].old, P[p].olds = base + i, 1
        else:
            P[p].olds += 1


@compiled
def set_back_contacts(B, C, K, h):
    """Add to the right side what lifts penetrations without giving them speed; True if there are any."""
    found = False
    for i in range(K[CONTACTS]):
        c = C[i]
        depth = -c.gap - SLOP
        if depth <= 0.0 or c.state == INACTIVE or c.swept:
            continue
        found = True
        n = c.normal
        s = c.stiffness * min(PUSH * depth / h, PUSH_SPEED)
        _push(B, c.a, c.ra, s * n[0], s * n[1], s * n[2])
        _push(B, c.b, c.rb, -s * n[0], -s * n[1], -s * n[2])
    return found
