#version 330
uniform mat4 u_view_projection;
uniform vec2 u_pixel;
in vec2 in_corner;     // along 0..1, across -1..1
in vec3 in_a;
in vec3 in_b;
in vec4 in_color;
in float in_width;
out vec4 v_color;
out float v_across;
out float v_half;

void main() {
    vec4 a = u_view_projection * vec4(in_a, 1.0);
    vec4 b = u_view_projection * vec4(in_b, 1.0);
    vec4 p = mix(a, b, in_corner.x);
    vec2 d = b.xy / max(b.w, 1e-4) / u_pixel - a.xy / max(a.w, 1e-4) / u_pixel;
    d = length(d) > 1e-6 ? normalize(d) : vec2(1.0, 0.0);
    vec2 n = vec2(-d.y, d.x);
    v_half = in_width * 0.5 + 0.75;
    vec2 offset = n * in_corner.y * v_half + d * (in_corner.x * 2.0 - 1.0) * 0.5;
    p.xy += offset * u_pixel * p.w;
    v_across = in_corner.y * v_half;
    v_color = in_color;
    gl_Position = p;
}
