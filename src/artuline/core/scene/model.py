"""All models of the document: a tree of frozen models. Metres, kilograms, seconds, radians; Y up; quaternions (x, y, z, w).

An edit makes a new tree that shares what did not change (see ``artuline.core.scene.edit``). A reference to
something that does not exist cannot be built: the validators refuse it. Each subject has a file of its own; this one lists them.
"""

from artuline.core.scene.body import AxisRange, Body, Joint, Shape
from artuline.core.scene.figure import Bone, ClipRef, Figure, Layer, Material, obstacle
from artuline.core.scene.flesh import Flesh
from artuline.core.scene.group import Group, Spring
from artuline.core.scene.lanes import Key, Lane, MotionKey, Track, VectorKey, VectorLane
from artuline.core.scene.limb import Limb
from artuline.core.scene.mount import Mount
from artuline.core.scene.rule import Rule
from artuline.core.scene.scene import FORMAT_VERSION, Scene, TakeRef
from artuline.core.scene.soft import Soft
from artuline.core.scene.steering import Gait, Steering
from artuline.core.scene.strand import Strand, StrandPoint
from artuline.core.scene.values import MOST_FRAME, UPRIGHT, ZERO, Model, Quat, Vec3
from artuline.core.scene.world import BodyRef, Ground, Gusts, JointRef, Link, LinkEnd, Push

__all__ = [
    "FORMAT_VERSION",
    "MOST_FRAME",
    "UPRIGHT",
    "ZERO",
    "AxisRange",
    "Body",
    "BodyRef",
    "Bone",
    "ClipRef",
    "Figure",
    "Flesh",
    "Gait",
    "Ground",
    "Group",
    "Gusts",
    "Joint",
    "JointRef",
    "Key",
    "Lane",
    "Layer",
    "Limb",
    "Link",
    "LinkEnd",
    "Material",
    "Model",
    "MotionKey",
    "Mount",
    "Push",
    "Quat",
    "Rule",
    "Scene",
    "Shape",
    "Soft",
    "Spring",
    "Steering",
    "Strand",
    "StrandPoint",
    "TakeRef",
    "Track",
    "Vec3",
    "VectorKey",
    "VectorLane",
    "obstacle",
]
