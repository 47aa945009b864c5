#version 330
uniform vec3 u_eye;
uniform vec3 u_light;
uniform vec3 u_ink;
uniform float u_glass;
uniform float u_mask;
in vec3 v_normal;
in vec3 v_world;
in vec4 v_color;
out vec4 color;

void main() {
    if (u_mask > 0.5) { color = vec4(1.0); return; }
    vec3 n = normalize(v_normal);
    vec3 e = normalize(u_eye - v_world);
    float facing = abs(dot(n, e));
    float key = max(dot(n, u_light) * 0.7 + 0.3, 0.0);
    if (u_glass > 0.5) {
        float edge = pow(1.0 - facing, 2.2);
        color = vec4(v_color.rgb * (0.82 + 0.28 * key), v_color.a * (0.42 + 0.58 * edge));
        return;
    }
    float rim = smoothstep(0.22, 0.04, facing);
    vec3 lit = sqrt(v_color.rgb) * (vec3(0.52, 0.53, 0.54) + vec3(0.58, 0.55, 0.50) * key);
    color = vec4(mix(lit, u_ink, rim * 0.3), v_color.a);
}
