#version 330
uniform mat4 u_view_projection;
uniform float u_flatten;
uniform float u_ground;
uniform vec3 u_light;
in vec3 in_normal;     // on the unit sphere, or of the cube's face
in vec4 in_corner;     // cube corner (w 1) or side of the capsule in x (w 0)
in vec4 in_m0;
in vec4 in_m1;
in vec4 in_m2;
in vec4 in_size;       // radius, half length, -, - or half extents
in vec4 in_color;
out vec3 v_normal;
out vec3 v_world;
out vec4 v_color;

void main() {
    vec3 local = in_corner.w > 0.5 ? in_corner.xyz * in_size.xyz
                                   : in_normal * in_size.x + vec3(in_corner.x * in_size.y, 0.0, 0.0);
    vec4 p = vec4(local, 1.0);
    vec3 world = vec3(dot(in_m0, p), dot(in_m1, p), dot(in_m2, p));
    if (u_flatten > 0.5) {
        float h = max(world.y - u_ground, 0.0);
        world = world - u_light * (h / max(u_light.y, 0.2));
        world.y = u_ground;
    }
    v_world = world;
    v_normal = vec3(dot(in_m0.xyz, in_normal), dot(in_m1.xyz, in_normal), dot(in_m2.xyz, in_normal));
    v_color = in_color;
    gl_Position = u_view_projection * vec4(world, 1.0);
}
