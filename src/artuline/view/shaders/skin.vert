#version 330
uniform mat4 u_view_projection;
uniform sampler2D u_palette;   // a row of texels for each figure: 4 a slot, three rows of the matrix, then the tint; after them its colours
uniform int u_materials;       // where those begin
uniform float u_extrude;       // outline width, in clip units per w
uniform vec2 u_pixel;
uniform float u_flatten;       // 1: project onto the ground along the light
uniform float u_ground;
uniform vec3 u_light;
in vec3 in_position;
in vec3 in_normal;
in float in_material;
in vec4 in_slots;
in vec4 in_weights;
out vec3 v_normal;
out vec3 v_world;
out vec3 v_color;
out vec4 v_tint;

void main() {
    vec4 r0 = vec4(0), r1 = vec4(0), r2 = vec4(0), tint = vec4(0);
    for (int k = 0; k < 4; k++) {
        float w = in_weights[k];
        if (w > 0.0) {
            int s = int(in_slots[k] + 0.5) * 4;
            r0 += w * texelFetch(u_palette, ivec2(s, gl_InstanceID), 0);
            r1 += w * texelFetch(u_palette, ivec2(s + 1, gl_InstanceID), 0);
            r2 += w * texelFetch(u_palette, ivec2(s + 2, gl_InstanceID), 0);
            tint += w * texelFetch(u_palette, ivec2(s + 3, gl_InstanceID), 0);
        }
    }
    vec4 p = vec4(in_position, 1.0);
    vec3 world = vec3(dot(r0, p), dot(r1, p), dot(r2, p));
    vec3 normal = normalize(vec3(dot(r0.xyz, in_normal), dot(r1.xyz, in_normal), dot(r2.xyz, in_normal)));
    if (u_flatten > 0.5) {
        float h = max(world.y - u_ground, 0.0);
        world = world - u_light * (h / max(u_light.y, 0.2));
        world.y = u_ground;
    }
    v_world = world;
    v_normal = normal;
    v_color = texelFetch(u_palette, ivec2(u_materials + int(in_material + 0.5), gl_InstanceID), 0).rgb;
    v_tint = tint;
    gl_Position = u_view_projection * vec4(world, 1.0);
    if (u_extrude > 0.0) {
        vec4 n = u_view_projection * vec4(normal, 0.0);
        vec2 d = n.xy / u_pixel;
        gl_Position.xy += normalize(d + vec2(1e-6)) * u_extrude * u_pixel * gl_Position.w;
        gl_Position.z += 0.0004 * gl_Position.w;
    }
}
