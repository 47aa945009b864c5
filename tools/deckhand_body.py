"""The deckhand's skeleton and volumes: stocky, oilskin coat, knitted cap, boots. Metres, Y up, facing +Z."""

from dataclasses import replace

from field import Ball, Cone

LARGE = 1.15  # times the size of a hand of his height

CENTRE = {
    "hips": (None, (0.0, 0.93, 0.0)),
    "spine": ("hips", (0.0, 1.04, -0.005)),
    "chest": ("spine", (0.0, 1.20, -0.01)),
    "neck": ("chest", (0.0, 1.44, -0.005)),
    "head": ("neck", (0.0, 1.52, 0.01)),
}
LEFT = {
    "collar": ("chest", (0.045, 1.385, 0.0)),
    "upper_arm": ("collar", (0.195, 1.385, -0.01)),
    "forearm": ("upper_arm", (0.395, 1.20, -0.015)),
    "hand": ("forearm", (0.572, 1.035, 0.01)),
    "fingers": ("hand", (0.642, 0.970, 0.0204)),
    "fingertips": ("fingers", (0.670, 0.9415, 0.0244)),
    "thumb": ("hand", (0.596, 0.9996, 0.0503)),
    "thigh": ("hips", (0.105, 0.90, 0.0)),
    "shin": ("thigh", (0.12, 0.50, 0.012)),
    "foot": ("shin", (0.125, 0.095, -0.02)),
    "toes": ("foot", (0.135, 0.04, 0.115)),
}

OILSKIN, TROUSERS, BOOTS, SKIN, WOOL, BEARD, RIM, EYES, BUTTONS = range(9)
MATERIALS = [
    ("oilskin", (0.66, 0.42, 0.065)),
    ("trousers", (0.075, 0.105, 0.135)),
    ("boots", (0.055, 0.06, 0.055)),
    ("skin", (0.62, 0.36, 0.25)),
    ("wool", (0.09, 0.15, 0.24)),
    ("beard", (0.40, 0.36, 0.31)),
    ("rim", (0.13, 0.21, 0.32)),
    ("eyes", (0.02, 0.022, 0.025)),
    ("buttons", (0.16, 0.10, 0.035)),
]


def skeleton():
    """Names, parents and world rest places, parents first."""
    bones = dict(CENTRE)
    for side, s in (("l", 1.0), ("r", -1.0)):
        for name, (parent, p) in LEFT.items():
            up = parent if parent in CENTRE else f"{parent}_{side}"
            bones[f"{name}_{side}"] = (up, (s * p[0], p[1], p[2]))
    return bones


def _both(make):
    return [make(side, s) for side, s in (("l", 1.0), ("r", -1.0))]


def groups():
    """(material, volumes, triangles, cell, cuts) of every part of the surface."""
    coat = [
        Ball("chest", (0, 1.29, -0.01), (0.205, 0.17, 0.14)),
        Cone("chest", (-0.11, 1.375, -0.01), (0.11, 1.375, -0.01), 0.095, 0.095, 0.95),
        Ball("spine", (0, 1.10, 0.012), (0.195, 0.15, 0.155)),
        Ball("hips", (0, 0.95, 0.0), (0.205, 0.15, 0.155)),
        Cone("hips", (-0.07, 0.86, 0.0), (0.07, 0.86, 0.0), 0.155, 0.155, 0.95),
        Cone("neck", (0, 1.44, -0.015), (0, 1.475, -0.01), 0.088, 0.092),
    ]
    for side, s in (("l", 1.0), ("r", -1.0)):
        coat += [
            Cone(f"thigh_{side}", (s * 0.105, 0.84, 0.0), (s * 0.118, 0.66, 0.004), 0.128, 0.142, 1.0),
            Cone(f"collar_{side}", (s * 0.08, 1.385, -0.01), (s * 0.16, 1.385, -0.01), 0.085, 0.085),
            Cone(f"upper_arm_{side}", (s * 0.195, 1.375, -0.01), (s * 0.385, 1.21, -0.015), 0.083, 0.068),
            Cone(f"forearm_{side}", (s * 0.395, 1.20, -0.015), (s * 0.535, 1.07, 0.005), 0.067, 0.062),
        ]
    hands = _both(_hand)
    legs = _both(
        lambda side, s: [
            Cone(f"thigh_{side}", (s * 0.110, 0.72, 0.002), (s * 0.12, 0.52, 0.01), 0.079, 0.072),
            Cone(f"shin_{side}", (s * 0.12, 0.50, 0.012), (s * 0.124, 0.30, -0.008), 0.072, 0.068),
        ]
    )
    boots = _both(
        lambda side, s: [
            Cone(f"shin_{side}", (s * 0.122, 0.375, -0.006), (s * 0.125, 0.16, -0.015), 0.086, 0.066),
            Cone(f"foot_{side}", (s * 0.125, 0.115, -0.02), (s * 0.125, 0.065, -0.035), 0.066, 0.062),
            Cone(f"foot_{side}", (s * 0.125, 0.075, -0.02), (s * 0.132, 0.052, 0.085), 0.064, 0.056),
            Cone(f"toes_{side}", (s * 0.134, 0.048, 0.11), (s * 0.137, 0.045, 0.15), 0.054, 0.047),
        ]
    )
    head = [
        Cone("neck", (0, 1.45, -0.002), (0, 1.53, 0.005), 0.062, 0.06),
        Ball("head", (0, 1.635, 0.012), (0.083, 0.108, 0.098)),
        Ball("head", (0, 1.585, 0.045), (0.062, 0.055, 0.062)),
        Cone("head", (0, 1.642, 0.098), (0, 1.610, 0.121), 0.010, 0.0165),
        Ball("head", (0.012, 1.606, 0.112), (0.011, 0.009, 0.011)),
        Ball("head", (-0.012, 1.606, 0.112), (0.011, 0.009, 0.011)),
        # cheeks and the bones above the eyes
        Ball("head", (0.045, 1.600, 0.076), (0.025, 0.020, 0.022)),
        Ball("head", (-0.045, 1.600, 0.076), (0.025, 0.020, 0.022)),
        Cone("head", (-0.044, 1.657, 0.084), (0.044, 1.657, 0.084), 0.0125, 0.0125),
        Ball("head", (0.086, 1.625, 0.008), (0.014, 0.028, 0.02)),
        Ball("head", (-0.086, 1.625, 0.008), (0.014, 0.028, 0.02)),
    ]
    eyes = [Ball("head", (s * 0.030, 1.633, 0.1015), (0.0080, 0.0092, 0.0070)) for s in (1.0, -1.0)]
    brows = [Cone("head", (s * 0.014, 1.6505, 0.108), (s * 0.047, 1.650, 0.093), 0.0072, 0.0055) for s in (1.0, -1.0)]
    buttons = [
        Ball(bone, (0.0, y, z), (0.013, 0.013, 0.007))
        for bone, y, z in (("chest", 1.33, 0.122), ("chest", 1.22, 0.142), ("spine", 1.11, 0.168), ("hips", 1.0, 0.160))
    ]
    beard = [
        Ball("head", (0, 1.558, 0.062), (0.066, 0.046, 0.062)),
        Cone("head", (-0.074, 1.60, 0.03), (-0.05, 1.56, 0.06), 0.022, 0.032),
        Cone("head", (0.074, 1.60, 0.03), (0.05, 1.56, 0.06), 0.022, 0.032),
        Ball("head", (0, 1.527, 0.072), (0.038, 0.036, 0.036)),
        # the moustache
        Cone("head", (-0.034, 1.583, 0.098), (0.0, 1.590, 0.116), 0.010, 0.011),
        Cone("head", (0.034, 1.583, 0.098), (0.0, 1.590, 0.116), 0.010, 0.011),
    ]
    cap = [
        Ball("head", (0, 1.702, -0.004), (0.099, 0.092, 0.108)),
        Ball("head", (0, 1.775, -0.02), (0.03, 0.03, 0.03)),
    ]
    rim = [
        Cone(
            "head", (0.1 * x0, 1.684 - 0.006 * z0, 0.105 * z0), (0.1 * x1, 1.684 - 0.006 * z1, 0.105 * z1), 0.019, 0.019
        )
        for (x0, z0), (x1, z1) in zip(_ring(10), _ring(10)[1:] + _ring(10)[:1])
    ]
    return [
        (OILSKIN, coat, 3300, 0.015, [((0, -1, 0), -0.63)]),
        (SKIN, hands[0], 1400, 0.0036, []),
        (SKIN, hands[1], 1400, 0.0036, []),
        (TROUSERS, legs[0], 380, 0.014, []),
        (TROUSERS, legs[1], 380, 0.014, []),
        (BOOTS, boots[0], 620, 0.011, [((0, -1, 0), 0.0)]),
        (BOOTS, boots[1], 620, 0.011, [((0, -1, 0), 0.0)]),
        (SKIN, head, 1300, 0.007, []),
        (EYES, eyes, 120, 0.003, []),
        (BEARD, brows, 160, 0.004, []),
        (BUTTONS, buttons, 160, 0.004, []),
        (BEARD, beard, 620, 0.007, []),
        (WOOL, cap, 420, 0.01, [((0, -1, 0), -1.655)]),
        (RIM, rim, 420, 0.009, []),
    ]


def _hand(side, s):
    """A hand of which every finger is a volume of its own; thumb forward, palm to the body."""
    wrist, along, palm = (0.566, 1.041, 0.010), (0.706, -0.706, 0.09), (-0.69, -0.72, 0.0)

    def at(p, length, bend=0.0):
        return tuple(a + length * (d + bend * n) for a, d, n in zip(p, along, palm))

    def to(p):
        # larger than life, as everything about him
        x, y, z = (w + LARGE * (c - w) for c, w in zip(p, wrist))
        return (s * x, y, z)

    parts = [Cone(f"forearm_{side}", to((0.53, 1.075, 0.005)), to((0.56, 1.046, 0.008)), 0.033, 0.030)]
    for z, length, thick in (
        (0.0300, 0.033, 0.0086),
        (0.0100, 0.037, 0.0090),
        (-0.0098, 0.034, 0.0087),
        (-0.0288, 0.027, 0.0077),
    ):
        knuckle = (0.632 - 0.12 * abs(z - 0.005), 0.979 + 0.12 * abs(z - 0.005), 0.018 + z)
        start = (wrist[0], wrist[1], wrist[2] + 0.45 * z)
        middle = at(knuckle, length, 0.12)
        tip = at(middle, 0.82 * length, 0.5)
        parts += [
            Cone(f"hand_{side}", to(start), to(knuckle), 0.0175, thick + 0.0045),
            Cone(f"fingers_{side}", to(knuckle), to(middle), thick + 0.0005, thick - 0.0008),
            Cone(f"fingertips_{side}", to(middle), to(tip), thick - 0.0008, thick - 0.0025),
        ]
    ball, joint, tip = (0.586, 1.012, 0.034), (0.606, 0.984, 0.060), (0.628, 0.957, 0.066)
    whole = [
        *parts,
        Cone(f"hand_{side}", to((0.575, 1.028, 0.018)), to(ball), 0.018, 0.0175),
        Cone(f"thumb_{side}", to(ball), to(joint), 0.0165, 0.0135),
        Cone(f"thumb_{side}", to(joint), to(tip), 0.0132, 0.0098),
    ]
    return [replace(c, ra=LARGE * c.ra, rb=LARGE * c.rb) for c in whole]


def _ring(n):
    import math

    return [(math.sin(2 * math.pi * i / n), math.cos(2 * math.pi * i / n)) for i in range(n)]
