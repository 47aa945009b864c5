"""The deckhand's skeleton and volumes: stocky, oilskin coat, knitted cap, boots. Metres, Y up, facing +Z."""

from field import Ball, Cone

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
    "fingers": ("hand", (0.636, 0.975, 0.022)),
    "thumb": ("hand", (0.592, 1.005, 0.045)),
    "thigh": ("hips", (0.105, 0.90, 0.0)),
    "shin": ("thigh", (0.12, 0.50, 0.012)),
    "foot": ("shin", (0.125, 0.095, -0.02)),
    "toes": ("foot", (0.135, 0.04, 0.115)),
}

OILSKIN, TROUSERS, BOOTS, SKIN, WOOL, BEARD, RIM = range(7)
MATERIALS = [
    ("oilskin", (0.66, 0.42, 0.065)),
    ("trousers", (0.075, 0.105, 0.135)),
    ("boots", (0.055, 0.06, 0.055)),
    ("skin", (0.62, 0.36, 0.25)),
    ("wool", (0.09, 0.15, 0.24)),
    ("beard", (0.40, 0.36, 0.31)),
    ("rim", (0.13, 0.21, 0.32)),
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
    hands = _both(
        lambda side, s: [
            Cone(f"forearm_{side}", (s * 0.53, 1.075, 0.005), (s * 0.56, 1.046, 0.008), 0.034, 0.034),
            Cone(f"hand_{side}", (s * 0.572, 1.035, 0.010), (s * 0.622, 0.988, 0.018), 0.036, 0.042, 0.75),
            Cone(f"fingers_{side}", (s * 0.634, 0.977, 0.02), (s * 0.686, 0.925, 0.03), 0.036, 0.024, 0.8),
            Cone(f"thumb_{side}", (s * 0.590, 1.008, 0.042), (s * 0.622, 0.968, 0.068), 0.02, 0.016),
        ]
    )
    legs = _both(
        lambda side, s: [
            Cone(f"thigh_{side}", (s * 0.105, 0.82, 0.0), (s * 0.12, 0.52, 0.01), 0.098, 0.074),
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
        Cone("head", (0, 1.628, 0.105), (0, 1.612, 0.122), 0.014, 0.019),
        Ball("head", (0.086, 1.625, 0.008), (0.014, 0.028, 0.02)),
        Ball("head", (-0.086, 1.625, 0.008), (0.014, 0.028, 0.02)),
    ]
    beard = [
        Ball("head", (0, 1.558, 0.062), (0.066, 0.046, 0.062)),
        Cone("head", (-0.074, 1.60, 0.03), (-0.05, 1.56, 0.06), 0.022, 0.032),
        Cone("head", (0.074, 1.60, 0.03), (0.05, 1.56, 0.06), 0.022, 0.032),
        Ball("head", (0, 1.527, 0.072), (0.038, 0.036, 0.036)),
    ]
    cap = [
        Ball("head", (0, 1.695, -0.004), (0.099, 0.092, 0.108)),
        Ball("head", (0, 1.775, -0.02), (0.03, 0.03, 0.03)),
    ]
    rim = [
        Cone("head", (0.1 * x0, 1.672 + 0.0, 0.105 * z0), (0.1 * x1, 1.672, 0.105 * z1), 0.021, 0.021)
        for (x0, z0), (x1, z1) in zip(_ring(10), _ring(10)[1:] + _ring(10)[:1])
    ]
    return [
        (OILSKIN, coat, 3300, 0.015, [((0, -1, 0), -0.63)]),
        (SKIN, hands[0], 500, 0.009, []),
        (SKIN, hands[1], 500, 0.009, []),
        (TROUSERS, legs[0], 380, 0.014, []),
        (TROUSERS, legs[1], 380, 0.014, []),
        (BOOTS, boots[0], 620, 0.011, [((0, -1, 0), 0.0)]),
        (BOOTS, boots[1], 620, 0.011, [((0, -1, 0), 0.0)]),
        (SKIN, head, 1000, 0.008, []),
        (BEARD, beard, 460, 0.008, []),
        (WOOL, cap, 420, 0.01, [((0, -1, 0), -1.655)]),
        (RIM, rim, 420, 0.009, []),
    ]


def _ring(n):
    import math

    return [(math.sin(2 * math.pi * i / n), math.cos(2 * math.pi * i / n)) for i in range(n)]
