#version 330
uniform vec3 u_top;
uniform vec3 u_bottom;
in float v_height;
out vec4 color;
void main() { color = vec4(mix(u_bottom, u_top, smoothstep(0.0, 1.0, v_height)), 1.0); }
