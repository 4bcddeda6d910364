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

//FUNCTIONS
void main() {
    vec4 base = base_color * color;
    if (used[0] != 0) { vec4 t = texture(map0, uv0); base *= vec4(decode(t.rgb), t.a); }
    if (alpha_mode == 1 && base.a < cutoff) discard;
    //LAYERS
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

#: what is put into the fragment program where layers lie on what is drawn: see `fasciculum.rendering.layer_looks`
LAYER_FUNCTIONS = """
uniform int layer_count; uniform mat4 to_own; uniform vec3 box_low; uniform vec3 box_high; uniform float hand;
uniform int layer_kind[6]; uniform int layer_axis[6]; uniform int layer_mask[6]; uniform int layer_mask_axis[6];
uniform int layer_blend[6]; uniform int layer_used[6];
uniform vec4 layer_color[6]; uniform vec4 layer_place[6]; uniform vec4 layer_scale[6]; uniform vec4 layer_ramp[6];
uniform sampler2DArray pictures;
const float PI = 3.14159265;

vec4 read_layer(int n, vec2 uv) {
    vec4 t = texture(pictures, vec3(uv, float(layer_used[n] - 1)));
    return vec4(t.rgb * t.rgb, t.a);
}

vec2 side_ways(int axis, float way, vec3 p) {
    if (axis == 0) return vec2(-way * p.z * hand, -p.y);
    if (axis == 1) return vec2(p.x * hand, way * p.z);
    return vec2(way * p.x * hand, -p.y);
}

vec2 placed(int n, vec2 uv) {
    vec4 at = layer_place[n];
    return vec2(at.z * uv.x - at.w * uv.y, at.w * uv.x + at.z * uv.y) + at.xy;
}

#if BOX || PLANE
vec4 read_side(int n, int axis, float way, vec3 p) {
    vec2 flat_ = side_ways(axis, way, p);
    vec4 scale = layer_scale[n];
    if (scale.x > 0.0) return read_layer(n, placed(n, flat_ / scale.x));
    vec2 a = side_ways(axis, way, box_low), b = side_ways(axis, way, box_high);
    vec2 first = min(a, b), size = max(abs(b - a), vec2(1e-9));
    return read_layer(n, placed(n, (flat_ - first) / size * scale.yz));
}

#endif
#if CYLINDER || SPHERE
vec4 read_round(int n, vec3 p, vec3 m, bool sphere) {
    int up = layer_axis[n], one = (up + 2) % 3, front = (up + 1) % 3;
    vec3 from = p - (box_low + box_high) * 0.5, size = (box_high - box_low) * 0.5;
    float radius = sphere ? (size.x + size.y + size.z) / 3.0 : (size[one] + size[front]) * 0.5;
    float ring = (size[one] + size[front]) * 0.5;
    vec4 scale = layer_scale[n];
    float around = scale.x > 0.0 ? max(floor(2.0 * PI * ring / scale.x + 0.5), 1.0) : scale.y;
    float angle = atan(from[one], from[front]);
    float length_u = 2.0 * PI * radius / around, length_v, down, ends, way;
    vec2 cap;
    if (sphere) {
        float latitude = atan(from[up], length(vec2(from[one], from[front])));
        length_v = scale.x > 0.0 ? scale.x : PI * radius / scale.z;
        down = ((scale.x > 0.0 ? 0.0 : PI * 0.5) - latitude) * radius;
        ends = clamp((abs(latitude) - 0.9076) / 0.24 + 0.5, 0.0, 1.0);
        way = latitude > 0.0 ? 1.0 : -1.0;
        cap = vec2(sin(angle) * hand, cos(angle) * way) * (PI * 0.5 - abs(latitude)) * radius;
    } else {
        float tall = max(box_high[up] - box_low[up], 1e-9);
        length_v = scale.x > 0.0 ? scale.x : tall / scale.z;
        down = scale.x > 0.0 ? -p[up] : box_high[up] - p[up];
        ends = clamp((abs(m[up]) - 0.75) / 0.16 + 0.5, 0.0, 1.0);
        way = m[up] > 0.0 ? 1.0 : -1.0;
        cap = vec2(from[one] * hand, from[front] * way);
    }
    vec4 side = read_layer(n, placed(n, vec2(angle * radius * hand / length_u, down / length_v)));
    return mix(side, read_layer(n, placed(n, cap / vec2(length_u, length_v))), ends);
}

#endif
vec4 layer_at(int n, vec3 p, vec3 m) {
    if (layer_used[n] == 0) return vec4(layer_color[n].rgb, 1.0);
    vec3 way = vec3(m.x < 0.0 ? -1.0 : 1.0, m.y < 0.0 ? -1.0 : 1.0, m.z < 0.0 ? -1.0 : 1.0);
#if PLANE
    if (layer_kind[n] == 1) return read_side(n, layer_axis[n], way[layer_axis[n]], p);
#endif
#if CYLINDER
    if (layer_kind[n] == 2) return read_round(n, p, m, false);
#endif
#if SPHERE
    if (layer_kind[n] == 3) return read_round(n, p, m, true);
#endif
#if UVS
    if (layer_kind[n] == 4) return read_layer(n, placed(n, uv0 * layer_scale[n].yz));
#endif
#if BOX
    vec3 weight = max(abs(m) / max(max(abs(m.x), abs(m.y)), max(abs(m.z), 1e-6)) - 0.7, 0.0);
    weight /= weight.x + weight.y + weight.z;
    return weight.x * read_side(n, 0, way.x, p) + weight.y * read_side(n, 1, way.y, p)
        + weight.z * read_side(n, 2, way.z, p);
#endif
    return vec4(layer_color[n].rgb, 1.0);
}

float shows(int n, vec3 p, vec3 world) {
    int kind = layer_mask[n], axis = layer_mask_axis[n];
    vec4 at = layer_ramp[n];
    if (kind == 0) return 1.0 - at.z;
    float value = kind == 1 ? world[axis]
        : kind == 2 ? (p[axis] - box_low[axis]) / max(box_high[axis] - box_low[axis], 1e-9)
        : kind == 3 ? p[axis] - box_low[axis] : color[int(at.w)];
    float part = at.x == at.y ? step(at.x, value) : clamp((value - at.x) / (at.y - at.x), 0.0, 1.0);
    return mix(part, 1.0 - part, at.z);
}

vec3 over_layers(vec3 beneath) {
    vec3 p = (to_own * vec4(position, 1.0)).xyz, world = normalize(normal);
    vec3 m = normalize(mat3(to_own) * world);
    for (int n = 0; n < layer_count; n++) {
        vec4 over = layer_at(n, p, m);
        vec3 full = layer_blend[n] == 1 ? beneath * over.rgb : layer_blend[n] == 2 ? min(beneath + over.rgb, vec3(1.0))
            : layer_blend[n] == 3 ? 1.0 - (1.0 - beneath) * (1.0 - over.rgb) : over.rgb;
        beneath = mix(beneath, full, layer_color[n].a * over.a * shows(n, p, world));
    }
    return beneath;
}
"""
#: what each projection is called there, in the order of `fasciculum.rendering.layer_looks.PROJECTIONS`
PROJECTIONS = ("BOX", "PLANE", "CYLINDER", "SPHERE", "UVS")


def layered_fragment(kinds: frozenset[int]) -> str:
    """Return the fragment program for layers whose pictures are projected in these ways alone.

    Drivers that draw in software go through every way for every pixel, whichever of them is asked for.
    """
    said = "".join(f"#define {word} {int(kind in kinds)}\n" for kind, word in enumerate(PROJECTIONS))
    text = FRAGMENT.replace("//FUNCTIONS", said + LAYER_FUNCTIONS)
    return text.replace("//LAYERS", "if (lens_on == 0) base.rgb = over_layers(base.rgb);")
