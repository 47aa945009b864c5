#version 330
uniform vec3 u_eye;
uniform vec3 u_light;
uniform vec3 u_ink;
uniform vec4 u_flat;     // a > 0: one colour
uniform float u_alpha;
uniform float u_mask;    // 1: shadow mask
uniform float u_levels;  // > 0: lines where the tint's amount passes so many even steps
in vec3 v_normal;
in vec3 v_world;
in vec3 v_color;
in vec4 v_tint;
out vec4 color;

void main() {
    if (u_mask > 0.5) { color = vec4(1.0); return; }
    vec3 n = normalize(v_normal);
    vec3 e = normalize(u_eye - v_world);
    float facing = max(dot(n, e), 0.0);
    if (u_flat.a > 0.0) {
        float edge = pow(1.0 - facing, 1.6);
        color = vec4(u_flat.rgb * (0.75 + 0.25 * max(n.y, 0.0)), u_flat.a * (0.35 + 0.65 * edge));
        return;
    }
    float amount = clamp(v_tint.a, 0.0, 1.0);
    vec3 albedo = sqrt(max(v_color, 0.0));
    vec3 tint = amount > 0.0 ? v_tint.rgb / max(v_tint.a, 1e-4) : vec3(0.0);
    albedo = mix(albedo, tint, amount);
    if (u_levels > 0.0) {
        // told without colour too: a line at every step, and a stronger one where it begins
        float at = amount * u_levels;
        float wide = max(fwidth(at), 1e-4);
        float line = 1.0 - smoothstep(0.6, 1.4, abs(at - floor(at + 0.5)) / wide);
        albedo = mix(albedo, u_ink, amount > 0.004 && amount < 0.996 ? 0.75 * line : 0.0);
    }
    float key = max(dot(n, u_light) * 0.75 + 0.25, 0.0);
    vec3 sky = mix(vec3(0.50, 0.48, 0.46), vec3(0.60, 0.63, 0.64), n.y * 0.5 + 0.5);
    vec3 lit = albedo * (sky + vec3(0.62, 0.59, 0.54) * key);
    float gloss = pow(max(dot(n, normalize(u_light + e)), 0.0), 24.0) * 0.10;
    float rim = smoothstep(0.34, 0.06, facing);
    color = vec4(mix(lit + gloss, u_ink, rim * 0.55), u_alpha);
}
