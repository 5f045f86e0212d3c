"""The GPU programs. World z is up. Rows of a picture run downward in the framebuffer too, so nothing is flipped on the way out."""

# a picture on a card, sampled from its own axes; where it is thinner than the threshold of this sub-frame there is nothing
PICTURE = """
uniform sampler2D picture; uniform bool pictured; uniform float threshold;
vec4 painted(vec3 own) {
    vec4 c = texture(picture, vec2(own.x + 0.5, 1.0 - own.z));
    // each pixel has a threshold of its own, so that few sub-frames make no steps
    float level = fract(threshold + 0.754877666 * gl_FragCoord.x + 0.569840296 * gl_FragCoord.y);
    if (c.a <= (threshold < 0.0 ? 0.5 : level)) discard;
    return c;
}"""

DEPTH_VERTEX = """#version 330
in vec3 position; uniform mat4 model; uniform mat4 view; out vec3 own;
void main() { own = position; gl_Position = view * (model * vec4(position, 1.0)); }"""

DEPTH_FRAGMENT = (
    """#version 330
in vec3 own;"""
    + PICTURE
    + """
void main() { if (pictured) painted(own); }"""
)

VERTEX = """#version 330
in vec3 position; in vec3 normal; uniform mat4 model; uniform mat4 view; uniform mat3 turn; uniform vec4 beyond;
out vec3 world; out vec3 facing; out vec3 own;
void main() {
    vec4 p = model * vec4(position, 1.0);
    own = position; world = p.xyz; facing = turn * normal; gl_Position = view * p;
    gl_ClipDistance[0] = dot(beyond, p);
}"""

# colour: light of our own surfaces, premultiplied. light: what the ground receives, as (sun with, sun without, sky with, sky
# without our objects). Only their ratio of sums darkens the plate, so shadows that overlap are never counted twice.
FRAGMENT = (
    """#version 330
in vec3 world; in vec3 facing; in vec3 own;"""
    + PICTURE
    + """
layout(location = 0) out vec4 colour; layout(location = 1) out vec4 light;
uniform bool catcher, receives, flat_sided; uniform float mirrors; uniform sampler2D mirror; uniform vec3 eye, sun, sun_light, sky_light, ground_light, base;
uniform float roughness, metal, sun_bias, sun_texel; uniform bool sky_shadow; uniform vec3 sky_from;
uniform sampler2DShadow sun_map, sky_map; uniform mat4 sun_view, sky_view;
const float PI = 3.14159265;

float reaches(sampler2DShadow map, mat4 view, vec3 n, vec3 from, float bias) {
    vec3 p = world + n * bias * (1.3 - clamp(dot(n, from), 0.0, 1.0));
    vec3 q = (view * vec4(p, 1.0)).xyz * 0.5 + 0.5;
    // the map covers our objects; what lies behind them along the light is in their shadow however far it is
    if (any(lessThan(q.xy, vec2(0.0))) || any(greaterThan(q.xy, vec2(1.0))) || q.z < 0.0) return 1.0;
    return texture(map, vec3(q.xy, min(q.z, 1.0) - 0.0006));
}
vec3 surroundings(float up, float rough) {
    float edge = 0.04 + 0.7 * rough;
    vec3 above = sky_light * mix(1.35, 0.85, smoothstep(0.0, 0.8, up));
    return mix(ground_light, above, smoothstep(-edge, edge, up));
}
void main() {
    vec3 n = normalize(facing), v = normalize(eye - world);
    if (flat_sided && dot(n, v) < 0.0) n = -n;
    float nl = dot(n, sun);
    if (catcher) {
        float open = max(nl, 0.0);
        float sky = max(dot(n, sky_from), 0.0) > 0.0 ? 1.0 : 0.0;
        light = vec4(open > 0.0 ? open * reaches(sun_map, sun_view, n, sun, sun_bias) : 0.0, open,
                     sky_shadow ? sky * reaches(sky_map, sky_view, n, sky_from, sun_bias * 2.0) : sky, sky);
        if (!receives) light = vec4(0.0);
        colour = mirrors > 0.0 ? mirrors * texelFetch(mirror, ivec2(gl_FragCoord.xy), 0) : vec4(0.0);
        return;
    }
    if (dot(n, v) < 0.0) n = normalize(n - v * dot(n, v) * 1.01);
    vec3 own_base = pictured ? base * painted(own).rgb : base;
    vec3 f0 = mix(vec3(0.04), own_base, metal), diffuse = own_base * (1.0 - metal);
    float nv = max(dot(n, v), 1e-3);
    vec3 c = vec3(0.0);
    if (nl > 0.0) {
        // GGX: B. Walter et al., Microfacet Models for Refraction, EGSR 2007; height-correlated masking after E. Heitz, JCGT 2014
        float a = max(roughness * roughness, 0.002), a2 = a * a;
        vec3 h = normalize(sun + v);
        float nh = clamp(dot(n, h), 0.0, 1.0), vh = clamp(dot(v, h), 0.0, 1.0);
        float d = nh * nh * (a2 - 1.0) + 1.0;
        float gloss = a2 / (d * d) * 0.5 / (nl * sqrt(nv * nv * (1.0 - a2) + a2) + nv * sqrt(nl * nl * (1.0 - a2) + a2) + 1e-6);
        vec3 f = f0 + (1.0 - f0) * pow(1.0 - vh, 5.0);
        c += sun_light * nl * reaches(sun_map, sun_view, n, sun, sun_bias) * (diffuse * (1.0 - f) + f * gloss);
    }
    float open = sky_shadow && dot(n, sky_from) > 0.0 ? reaches(sky_map, sky_view, n, sky_from, sun_bias * 2.0) : 1.0;
    vec3 around = mix(ground_light, sky_light, 0.5 + 0.5 * n.z);
    // split-sum reflection, fitted: B. Karis, Physically Based Shading on Mobile, 2014
    vec4 r = roughness * vec4(-1.0, -0.0275, -0.572, 0.022) + vec4(1.0, 0.0425, 1.04, -0.04);
    float k = min(r.x * r.x, exp2(-9.28 * nv)) * r.x + r.y;
    vec2 ab = vec2(-1.04, 1.04) * k + r.zw;
    c += open * (diffuse * around + surroundings(reflect(-v, n).z, roughness) * (f0 * ab.x + ab.y));
    colour = vec4(c, 1.0);
    light = vec4(0.0);
}"""
)

ADD_VERTEX = """#version 330
void main() { vec2 v = vec2(gl_VertexID & 1, gl_VertexID >> 1); gl_Position = vec4(v * 4.0 - 1.0, 0.0, 1.0); }"""

ADD_FRAGMENT = """#version 330
uniform sampler2D colours, lights; uniform float share; layout(location = 0) out vec4 colour; layout(location = 1) out vec4 light;
void main() {
    ivec2 at = ivec2(gl_FragCoord.xy);
    colour = share * texelFetch(colours, at, 0); light = share * texelFetch(lights, at, 0);
}"""
