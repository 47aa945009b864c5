"""The ship's goat: skeleton and volumes. Metres, Y up, facing +Z; 0.66 m at the withers."""

from field import Ball, Cone

CENTRE = {
    "hips": (None, (0.0, 0.58, -0.27)),
    "spine": ("hips", (0.0, 0.60, -0.10)),
    "chest": ("spine", (0.0, 0.59, 0.10)),
    "neck": ("chest", (0.0, 0.65, 0.24)),
    "head": ("neck", (0.0, 0.86, 0.36)),
    "beard": ("head", (0.0, 0.765, 0.485)),
    "beard_tip": ("beard", (0.0, 0.695, 0.48)),
    "tail": ("hips", (0.0, 0.635, -0.385)),
    "tail_tip": ("tail", (0.0, 0.70, -0.445)),
}
LEFT = {
    "shoulder": ("chest", (0.085, 0.545, 0.165)),
    "foreleg": ("shoulder", (0.095, 0.40, 0.115)),
    "forecannon": ("foreleg", (0.095, 0.235, 0.145)),
    "forehoof": ("forecannon", (0.095, 0.075, 0.145)),
    "haunch": ("hips", (0.085, 0.555, -0.27)),
    "gaskin": ("haunch", (0.105, 0.405, -0.20)),
    "cannon": ("gaskin", (0.10, 0.255, -0.325)),
    "hoof": ("cannon", (0.10, 0.075, -0.30)),
    "ear": ("head", (0.055, 0.895, 0.345)),
    "ear_tip": ("ear", (0.115, 0.875, 0.335)),
}

COAT, DARK, HORN, MUZZLE, HOOF = range(5)
MATERIALS = [
    ("coat", (0.62, 0.57, 0.47)),
    ("dark coat", (0.16, 0.12, 0.09)),
    ("horn", (0.21, 0.18, 0.14)),
    ("muzzle", (0.33, 0.25, 0.21)),
    ("hoof", (0.05, 0.045, 0.04)),
]


def skeleton():
    """Names, parents and world rest places, parents first."""
    bones = dict(CENTRE)
    for side, s in (("l", 1.0), ("r", -1.0)):
        for name, (parent, p) in LEFT.items():
            up = parent if parent in CENTRE else f"{parent}_{side}"
            bones[f"{name}_{side}"] = (up, (s * p[0], p[1], p[2]))
    return bones


def groups():
    """(material, volumes, triangles, cell, cuts) of every part of the surface."""
    coat = [
        Ball("hips", (0, 0.575, -0.27), (0.125, 0.125, 0.15)),
        Ball("spine", (0, 0.555, -0.08), (0.145, 0.15, 0.20)),
        Ball("chest", (0, 0.56, 0.12), (0.13, 0.15, 0.17)),
        Cone("chest", (0, 0.50, 0.18), (0, 0.57, 0.24), 0.085, 0.08),
        Cone("neck", (0, 0.63, 0.22), (0, 0.82, 0.335), 0.088, 0.062),
        Ball("head", (0, 0.875, 0.375), (0.062, 0.066, 0.078)),
        Cone("head", (0, 0.865, 0.40), (0, 0.815, 0.495), 0.055, 0.040),
        Cone("tail", (0, 0.625, -0.37), (0, 0.70, -0.445), 0.030, 0.024),
        Cone("tail_tip", (0, 0.70, -0.445), (0, 0.755, -0.465), 0.024, 0.013),
    ]
    for side, s in (("l", 1.0), ("r", -1.0)):
        coat += [
            Cone(f"shoulder_{side}", (s * 0.08, 0.55, 0.165), (s * 0.095, 0.41, 0.12), 0.068, 0.048),
            Cone(f"foreleg_{side}", (s * 0.095, 0.40, 0.115), (s * 0.095, 0.245, 0.143), 0.044, 0.031),
            Cone(f"haunch_{side}", (s * 0.075, 0.56, -0.275), (s * 0.10, 0.42, -0.215), 0.098, 0.062),
            Cone(f"gaskin_{side}", (s * 0.105, 0.405, -0.205), (s * 0.10, 0.265, -0.32), 0.058, 0.030),
            Cone(f"ear_{side}", (s * 0.05, 0.895, 0.345), (s * 0.115, 0.875, 0.335), 0.021, 0.024, 0.55),
            Cone(f"ear_tip_{side}", (s * 0.115, 0.875, 0.335), (s * 0.165, 0.835, 0.335), 0.024, 0.010, 0.5),
        ]

    def socks(side, s):
        return [
            Cone(f"forecannon_{side}", (s * 0.095, 0.24, 0.144), (s * 0.095, 0.09, 0.145), 0.029, 0.022),
            Cone(f"cannon_{side}", (s * 0.10, 0.26, -0.325), (s * 0.10, 0.09, -0.302), 0.029, 0.022),
            Cone(f"forehoof_{side}", (s * 0.095, 0.085, 0.145), (s * 0.095, 0.055, 0.155), 0.026, 0.027),
            Cone(f"hoof_{side}", (s * 0.10, 0.085, -0.30), (s * 0.10, 0.055, -0.29), 0.026, 0.027),
        ]

    def hooves(side, s):
        return [
            Cone(f"forehoof_{side}", (s * 0.095, 0.045, 0.155), (s * 0.095, 0.022, 0.168), 0.029, 0.034),
            Cone(f"hoof_{side}", (s * 0.10, 0.045, -0.29), (s * 0.10, 0.022, -0.277), 0.029, 0.034),
        ]

    def horn(side, s):
        curve = [(0.028, 0.93, 0.375), (0.036, 0.985, 0.355), (0.046, 1.02, 0.305), (0.056, 1.025, 0.245)]
        radii = (0.021, 0.018, 0.013, 0.006)
        return [
            Cone("head", (s * a[0], *a[1:]), (s * b[0], *b[1:]), ra, rb)
            for a, b, ra, rb in zip(curve, curve[1:], radii, radii[1:])
        ]

    muzzle = [
        Cone("head", (0, 0.822, 0.485), (0, 0.802, 0.512), 0.041, 0.034),
        Ball("head", (0, 0.79, 0.49), (0.030, 0.024, 0.034)),
    ]
    beard = [
        Cone("beard", (0, 0.782, 0.482), (0, 0.70, 0.482), 0.026, 0.024),
        Cone("beard_tip", (0, 0.70, 0.482), (0, 0.62, 0.468), 0.024, 0.007),
    ]
    back = [
        Cone("spine", (0, 0.672, -0.20), (0, 0.672, 0.02), 0.043, 0.043),
        Cone("chest", (0, 0.672, 0.02), (0, 0.68, 0.15), 0.043, 0.046),
        Cone("hips", (0, 0.665, -0.32), (0, 0.672, -0.20), 0.043, 0.043),
    ]
    return [
        (COAT, coat, 3600, 0.011, []),
        (DARK, back, 260, 0.011, []),
        (DARK, socks("l", 1.0), 420, 0.008, []),
        (DARK, socks("r", -1.0), 420, 0.008, []),
        (HOOF, hooves("l", 1.0), 260, 0.007, [((0, -1, 0), 0.0)]),
        (HOOF, hooves("r", -1.0), 260, 0.007, [((0, -1, 0), 0.0)]),
        (HORN, horn("l", 1.0), 240, 0.006, []),
        (HORN, horn("r", -1.0), 240, 0.006, []),
        (MUZZLE, muzzle, 300, 0.008, []),
        (DARK, beard, 260, 0.007, []),
    ]
