"""An outside opinion: the same mechanisms in MuJoCo (a benchmark extra)."""

import numpy as np

from artuline.core.geometry import rotation, transforms
from artuline.core.motion.skeleton import rest_matrices, rigid
from artuline.core.physics.world import JointSpec, World
from benchmarks.scenes import FRAME, X, rod


def _wxyz(q):
    return f"{q[3]} {q[0]} {q[1]} {q[2]}"


def _text(v):
    return " ".join(repr(float(x)) for x in v)


def _geom(s, density):
    place = f'pos="{_text(s.position)}" density="{density}"'
    if s.kind == "box":
        return f'<geom type="box" size="{_text(s.half)}" quat="{_wxyz(s.rotation)}" {place}/>'
    if s.kind == "sphere":
        return f'<geom type="sphere" size="{s.radius}" {place}/>'
    turned = rotation.multiply(np.array(s.rotation), np.array([0, np.sqrt(0.5), 0, np.sqrt(0.5)]))
    return f'<geom type="capsule" size="{s.radius} {s.half_length}" quat="{_wxyz(turned)}" {place}/>'


def mjcf(figure, height, dt=0.002):
    """A figure with bodies and joints as a MuJoCo model: capsules and boxes, balls and hinges with limits."""
    p, q = rigid(rest_matrices(figure))
    p = p + np.array([0.0, height, 0.0])
    joint = {j.child: j for j in figure.joints}
    ids = {b.id: b for b in figure.bodies}

    def body(name, parent):
        b = ids[name]
        n = figure.bone_index[b.bone]
        if parent is None:
            place, turned, kind = p[n], q[n], "<freejoint/>"
        else:
            m = figure.bone_index[ids[parent].bone]
            place, turned = transforms.rigid_relative(p[m], q[m], p[n], q[n])
            j = joint[name]
            if j.kind == "hinge":
                axis = rotation.rotate(np.array(j.frame), X)
                low, high = np.degrees(j.twist)
                kind = f'<joint type="hinge" axis="{_text(axis)}" range="{low} {high}" limited="true" damping="0.5"/>'
            else:
                high = np.degrees(max(j.swing_y, j.swing_z))
                kind = f'<joint type="ball" range="0 {high}" limited="true" damping="0.5"/>'
        inner = "".join(_geom(s, b.density) for s in b.shapes)
        inner += "".join(body(c, name) for c, j in joint.items() if j.parent == name)
        return f'<body pos="{_text(place)}" quat="{_wxyz(turned)}">{kind}{inner}</body>'

    root = next(b.id for b in figure.bodies if b.id not in joint)
    return (
        f'<mujoco><option timestep="{dt}" gravity="0 -9.81 0"/><worldbody>'
        f'<geom type="plane" size="50 50 1" quat="0.7071068 -0.7071068 0 0"/>{body(root, None)}</worldbody></mujoco>'
    )


def _arm(links, mode=""):
    """Rods of 0.4 m and 1 kg on hinges about z, released level, as MuJoCo text."""
    inertia = 0.4**2 / 12
    open_, close = "", ""
    for i in range(links):
        place = "0 0 0" if i == 0 else "0.4 0 0"
        open_ += (
            f'<body pos="{place}"><joint type="hinge" axis="0 0 1" {mode}/>'
            f'<inertial pos="0.2 0 0" mass="1" diaginertia="3.2e-05 {inertia} {inertia}"/>'
        )
        close += "</body>"
    option = '<option timestep="0.0001" gravity="0 -9.81 0" integrator="RK4"/>'
    return f"<mujoco>{option}<worldbody>{open_}{close}</worldbody></mujoco>"


def _ours(links, **more):
    frame = rotation.align(X, np.array([0.0, 0.0, 1.0]))
    bodies = [rod(0.4, 1.0, 0.008, position=X * (0.2 + 0.4 * i)) for i in range(links)]
    joints = [JointSpec(i - 1, i, "hinge", anchor=-X * 0.2, frame_c=frame, frame_p=frame, **more) for i in range(links)]
    return World(bodies, joints, contacts=False)


def _angles(world):
    q = world.poses()[1]
    return 2 * np.arctan2(q[:, 2], q[:, 3])


def _apart(links, mode="", substeps=40, ours=None, **more):
    import mujoco

    model = mujoco.MjModel.from_xml_string(_arm(links, mode))
    data = mujoco.MjData(model)
    world = ours or _ours(links, **more)
    worst = 0.0
    for n in range(1, 49):
        world.step(FRAME, substeps)
        while data.time < n * FRAME - 5e-5:
            mujoco.mj_step(model, data)
        theirs = np.cumsum(data.qpos)
        away = np.angle(np.exp(1j * (_angles(world) - theirs)))
        worst = max(worst, np.degrees(np.abs(away)).max())
    return worst


def agree():
    try:
        import mujoco  # noqa: F401
    except ImportError:
        yield "MuJoCo is not installed: pip install -e '.[bench]'", "-", "within 1 deg", False
        return
    for links, name in ((2, "double"), (3, "triple")):
        worst = _apart(links, substeps=160)
        yield f"{name} pendulum, 2 s", f"{worst:.3f} deg", "within 1 deg", worst <= 1.0
    # a hinge with a damped spring to level: stiffness and damping from frequency and ratio about its inertia
    inertia, f, z = 0.4**2 / 3, 2.0, 0.3
    o = 2 * np.pi * f
    mode = f'stiffness="{inertia * o * o}" damping="{2 * z * o * inertia}"'
    worst = _apart(1, mode, substeps=10, frequency=f, ratio=z)
    yield "hinge with a damped spring, 2 s", f"{worst:.3f} deg", "within 1 deg", worst <= 1.0
    # falls onto a limit at -60 degrees and stays there
    low = np.radians(-60.0)
    mode = 'range="-60 90" limited="true" solreflimit="0.004 1" damping="0.05"'
    world = _ours(1, limits=(0, 0, low, np.radians(90)), damping=0.05 / inertia)
    worst = _apart(1, mode, substeps=20, ours=world)
    yield "hinge that falls on a limit, 2 s", f"{worst:.3f} deg", "within 1 deg", worst <= 1.0


MEASUREMENTS = {"agreement": agree}
