#version 330
in vec2 in_position;
out float v_height;
void main() {
    v_height = in_position.y * 0.5 + 0.5;
    gl_Position = vec4(in_position, 0.9999, 1.0);
}
