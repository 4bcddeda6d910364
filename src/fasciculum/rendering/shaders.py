"""The renderer's one program: metallic-roughness under a soft sky and one light that comes with the camera."""

VERTEX = """
#version 330
in vec3 in_position; in vec3 in_normal; in vec4 in_tangent; in vec4 in_color;
in vec2 in_uv0; in vec2 in_uv1; in vec2 in_uv2; in vec2 in_uv3; in vec2 in_uv4;
in vec3 in_lens;
uniform mat4 camera;
out vec3 position; out vec3 normal; out vec4 tangent; out vec4 color; out vec3 lens;
out vec2 uv0; out vec2 uv1; out vec2 uv2; out vec2 uv3; out vec2 uv4;
void main() {
    gl_Position = camera * vec4(in_position, 1.0);
    position = in_position; normal = in_normal; tangent = in_tangent; color = in_color; lens = in_lens;
    uv0 = in_uv0; uv1 = in_uv1; uv2 = in_uv2; uv3 = in_uv3; uv4 = in_uv4;
}
"""

FRAGMENT = """
#version 330
in vec3 position; in vec3 normal; in vec4 tangent; in vec4 color; in vec3 lens;
in vec2 uv0; in vec2 uv1; in vec2 uv2; in vec2 uv3; in vec2 uv4;
uniform sampler2D map0; uniform sampler2D map1; uniform sampler2D map2; uniform sampler2D map3; uniform sampler2D map4;
uniform int used[5];
uniform vec4 base_color; uniform vec3 emission; uniform vec4 surface;  // metallic, roughness, normal scale, occlusion
uniform int alpha_mode; uniform float cutoff; uniform int unlit; uniform int lens_on;
uniform vec3 eye; uniform vec3 to_light; uniform float chosen; uniform int number;
layout(location = 0) out vec4 picture;
layout(location = 1) out int picked;

vec3 decode(vec3 c) { return mix(c / 12.92, pow((c + 0.055) / 1.055, vec3(2.4)), step(0.04045, c)); }
vec3 encode(vec3 c) {
    c = clamp(c, 0.0, 1.0);
    return mix(c * 12.92, 1.055 * pow(c, vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c));
}
vec3 sky(vec3 d) { return mix(vec3(0.26, 0.24, 0.22), vec3(0.62, 0.66, 0.72), smoothstep(-0.4, 0.7, d.y)); }

void main() {
    vec4 base = base_color * color;
    if (used[0] != 0) { vec4 t = texture(map0, uv0); base *= vec4(decode(t.rgb), t.a); }
    if (alpha_mode == 1 && base.a < cutoff) discard;
    float alpha = alpha_mode == 2 ? base.a : 1.0;
    vec3 n = normalize(normal);
    vec3 toward = normalize(eye - position);
    if (used[2] != 0) {
        vec3 t = normalize(tangent.xyz - n * dot(n, tangent.xyz));
        vec3 b = cross(n, t) * tangent.w;
        vec3 m = texture(map2, uv2).xyz * 2.0 - 1.0;
        n = normalize(m.x * surface.z * t + m.y * surface.z * b + m.z * n);
    }
    if (dot(n, toward) < 0.0 && !gl_FrontFacing) n = -n;
    float metallic = surface.x, roughness = surface.y, open = 1.0;
    if (used[1] != 0) { vec4 t = texture(map1, uv1); roughness *= t.g; metallic *= t.b; }
    if (used[3] != 0) open = 1.0 + surface.w * (texture(map3, uv3).r - 1.0);
    vec3 glow = emission;
    if (used[4] != 0) glow *= decode(texture(map4, uv4).rgb);
    vec3 shown = base.rgb;
    if (lens_on != 0) { glow = vec3(0.0); alpha = 1.0; }
    if (lens_on != 0) {
        shown = lens * (0.5 + 0.5 * max(dot(n, toward), 0.0));
    } else if (unlit == 0) {
        vec3 middle = normalize(to_light + toward);
        float wide = max(roughness * roughness, 0.02);
        float nh = max(dot(n, middle), 0.0);
        float d = nh * nh * (wide * wide - 1.0) + 1.0;
        float lobe = wide * wide / (3.14159 * d * d) * 0.25;
        vec3 f0 = mix(vec3(0.04), shown, metallic);
        vec3 fresnel = f0 + (1.0 - f0) * pow(1.0 - max(dot(n, toward), 0.0), 5.0) * (1.0 - roughness);
        float lit = max(dot(n, to_light), 0.0);
        vec3 diffuse = shown * (1.0 - metallic) * (0.95 * lit + sky(n) * open);
        vec3 shine = f0 * lobe * lit * 2.2 + fresnel * sky(reflect(-toward, n)) * open;
        shown = diffuse + shine;
    }
    shown = encode(shown + glow);
    shown = mix(shown, vec3(0.847, 0.706, 0.353), chosen);
    picture = vec4(shown, alpha);
    picked = number;
}
"""
