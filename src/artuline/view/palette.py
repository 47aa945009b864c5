"""The colours of the stage, shared with the window's theme: day and night."""

from dataclasses import dataclass


def rgb(code: str) -> tuple[float, float, float]:
    """'#RRGGBB' -> three shares of 1."""
    return tuple(int(code[i : i + 2], 16) / 255.0 for i in (1, 3, 5))  # type: ignore[return-value]


@dataclass(frozen=True)
class Palette:
    """Colour codes by meaning. Teal is keyed, vermilion is physics, brass joints and limits, crimson faults."""

    name: str
    paper: str
    panel: str
    raised: str
    rule: str
    ink: str
    faint: str
    stage_top: str
    stage_bottom: str
    ground: str
    grid: str
    teal: str
    vermilion: str
    brass: str
    crimson: str
    teal_text: str
    vermilion_text: str
    brass_text: str
    crimson_text: str


DAY = Palette(
    name="day",
    paper="#F2EEE4",
    panel="#E8E2D4",
    raised="#FAF7F0",
    rule="#CFC6B4",
    ink="#1E2A32",
    faint="#56626A",
    stage_top="#E6EBE9",
    stage_bottom="#C3CECD",
    ground="#D3DBD8",
    grid="#97A8A8",
    teal="#1F7A7A",
    vermilion="#CF4A2D",
    brass="#B0822A",
    crimson="#A31D3B",
    teal_text="#1A6E6E",
    vermilion_text="#B0381E",
    brass_text="#7D5A12",
    crimson_text="#8F1732",
)

NIGHT = Palette(
    name="night",
    paper="#1B2329",
    panel="#222C33",
    raised="#2C3840",
    rule="#3C4A53",
    ink="#E9E4D8",
    faint="#A3ADB1",
    stage_top="#3A474E",
    stage_bottom="#242E34",
    ground="#323E44",
    grid="#5C6C73",
    teal="#3FA5A3",
    vermilion="#E8694A",
    brass="#D0A24A",
    crimson="#DA4A68",
    teal_text="#62C1BE",
    vermilion_text="#F2886C",
    brass_text="#DDB566",
    crimson_text="#F07E97",
)
