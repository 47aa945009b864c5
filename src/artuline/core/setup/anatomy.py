"""What a bone's name says about the segment, and how far such a segment moves at least."""

import math
import re

# The least half swing and half twist in degrees that a limp segment is given, however little the clips use.
# Rounded from the passive ranges in Kapandji, The Physiology of the Joints, kept to what does not hurt.
LEAST = {
    "thigh": (50.0, 25.0),
    "upper arm": (65.0, 40.0),
    "collar": (10.0, 6.0),
    "head": (28.0, 35.0),
    "spine": (16.0, 12.0),
    "hand": (40.0, 10.0),
    "foot": (28.0, 10.0),
    "shin": (15.0, 8.0),
    "forearm": (15.0, 30.0),
    "pastern": (15.0, 8.0),
}
PLAIN = (25.0, 15.0)
HINGES = ("shin", "forearm", "pastern")
FULL_BEND = math.radians(135.0)

_WORDS = {
    "thigh": ("thigh", "haunch", "upleg", "upperleg", "femur", "hip joint"),
    "shin": ("shin", "gaskin", "stifle", "calf", "knee", "lowerleg", "crus", "tibia"),
    "pastern": ("cannon", "hock", "fetlock", "metatarsal", "metacarpal"),
    "forearm": ("forearm", "foreleg", "lowerarm", "elbow", "lower arm", "ulna"),
    "collar": ("collar", "clavicle", "scapula"),
    "upper arm": ("upperarm", "upper arm", "shoulder", "humerus", "arm"),
    "foot": ("foot", "ankle", "paw", "hoof"),
    "hand": ("hand", "wrist"),
    "head": ("head", "neck"),
    "spine": ("spine", "chest", "back", "torso", "abdomen", "waist", "vertebra", "lumbar"),
}


def segment_of(name: str) -> str | None:
    """The segment a bone name speaks of, or None."""
    plain = re.sub(r"[^a-z]+", " ", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name).lower())
    joined = plain.replace(" ", "")
    for segment, words in _WORDS.items():
        if any(w.replace(" ", "") in joined for w in words):
            return segment
    return None


def least_range(name: str) -> tuple[float, float]:
    """Least half swing and half twist for a bone, radians."""
    swing, twist = LEAST.get(segment_of(name) or "", PLAIN)
    return math.radians(swing), math.radians(twist)
