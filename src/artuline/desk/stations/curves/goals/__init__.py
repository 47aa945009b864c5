"""Where motion goes: limbs and their goals."""
