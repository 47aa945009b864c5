"""Sets what a shader is told."""

import moderngl


def set_values(program: moderngl.Program, values: dict[str, object]) -> None:
    """Set those of some values that a program knows."""
    for name, value in values.items():
        if name in program:
            uniform = program[name]
            if isinstance(value, bytes):
                uniform.write(value)  # type: ignore[union-attr]
            else:
                uniform.value = value  # type: ignore[union-attr]
