#version 330
uniform vec3 u_color;
uniform vec3 u_grid;
uniform vec3 u_ink;
uniform vec3 u_center;
uniform float u_reach;
uniform sampler2D u_shadow;
uniform vec2 u_size;
uniform float u_below;
in vec3 v_world;
out vec4 color;

float line(float v, float width) {
    float d = abs(fract(v - 0.5) - 0.5) / max(fwidth(v), 1e-5);
    return 1.0 - smoothstep(width, width + 1.0, d);
}

void main() {
    vec2 p = v_world.xz;
    float plank = line(p.x * 5.0, 0.3) * 0.16;
    float metre = max(line(p.x, 0.45), line(p.y, 0.45)) * 0.55;
    float five = max(line(p.x / 5.0, 0.8), line(p.y / 5.0, 0.8)) * 0.85;
    float fine = 1.0 - smoothstep(0.02, 0.09, fwidth(p.x) + fwidth(p.y));
    float grid = max(max(metre, five), plank * fine);
    float shadow = 0.0;
    vec2 uv = gl_FragCoord.xy / u_size;
    vec2 texel = 1.6 / vec2(textureSize(u_shadow, 0));
    for (int i = -1; i <= 1; i++)
        for (int j = -1; j <= 1; j++)
            shadow += texture(u_shadow, uv + texel * vec2(i, j)).r * (i == 0 ? 2.0 : 1.0) * (j == 0 ? 2.0 : 1.0);
    shadow /= 16.0;
    vec3 c = mix(u_color, u_grid, grid);
    c = mix(c, u_ink, shadow * 0.30);
    float away = length(p - u_center.xz);
    float fade = 1.0 - smoothstep(0.35 * u_reach, u_reach, away);
    color = vec4(c, fade * u_below);
}
