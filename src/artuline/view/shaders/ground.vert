#version 330
uniform mat4 u_view_projection;
uniform float u_ground;
uniform vec3 u_center;
in vec2 in_position;
out vec3 v_world;

void main() {
    v_world = vec3(u_center.x + in_position.x * 60.0, u_ground, u_center.z + in_position.y * 60.0);
    gl_Position = u_view_projection * vec4(v_world, 1.0);
}
