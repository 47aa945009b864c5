#version 330
in vec4 v_color;
in float v_across;
in float v_half;
out vec4 color;
void main() {
    float a = clamp(v_half - abs(v_across), 0.0, 1.0);
    color = vec4(v_color.rgb, v_color.a * a);
}
