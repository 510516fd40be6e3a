// The shaders of the model view.

// A made studio: a warm large window, a cool one across, a strip behind, a floor. Reflections see it, blurred by
// roughness; what is matt receives the windows as soft lights. A raking light from the pointer's side shows dents.
const SHADE = `
float window_(vec3 d, vec3 at, vec2 size, float soft) {
  vec3 u = normalize(cross(vec3(0.0, 1.0, 0.0), at)), v = cross(at, u);
  float z = dot(d, at);
  vec2 p = vec2(dot(d, u), dot(d, v)) / max(z, 1e-3), e = smoothstep(size + soft, size - soft, abs(p));
  return step(0.0, z) * e.x * e.y;
}
vec3 studio(vec3 d, float rough) {
  float soft = 0.06 + 1.5 * rough, dim = 1.0 / (1.0 + 3.5 * rough);
  vec3 c = mix(vec3(0.16, 0.145, 0.125), vec3(0.34, 0.37, 0.42), smoothstep(-0.4 - rough, 0.5 + rough, d.y));
  c += vec3(5.6, 5.2, 4.6) * dim * window_(d, normalize(vec3(-0.45, 0.62, 0.64)), vec2(0.42, 0.62), soft);
  c += vec3(1.1, 1.25, 1.5) * dim * window_(d, normalize(vec3(0.86, 0.18, 0.32)), vec2(0.5, 0.8), soft);
  c += vec3(2.6, 2.5, 2.4) * dim * window_(d, normalize(vec3(0.35, 0.45, -0.82)), vec2(0.9, 0.16), soft);
  return c;
}
vec3 shade(vec3 n, vec3 v, vec3 base) {
  float rough = vG.x > 0.0 ? vG.x : roughness, metal = vG.x > 0.0 ? vG.y : metalness;
  mat3 about = cameraTurn * mat3(cos(light), 0.0, -sin(light), 0.0, 1.0, 0.0, sin(light), 0.0, cos(light));
  mat3 back = transpose(about);
  if (rake.z > 0.5) {
    vec3 way = normalize(cameraTurn * vec3(rake.xy, 0.16)), h = normalize(way + v);
    return base * (0.05 + 1.25 * max(dot(n, way), 0.0)) + 0.18 * pow(max(dot(n, h), 0.0), 40.0);
  }
  vec3 m = back * n, key = normalize(vec3(-0.45, 0.62, 0.64)), cool = normalize(vec3(0.86, 0.18, 0.32));
  float wrap = max(dot(m, key) * 0.9 + 0.1, 0.0), sky = 0.5 + 0.5 * n.y;
  vec3 floored = vec3(0.13, 0.118, 0.1) * (1.0 - sky); // what the floor sends back
  vec3 got = vec3(0.035, 0.035, 0.04) + vec3(0.085, 0.09, 0.105) * sky + floored;
  got += vec3(0.84, 0.79, 0.70) * wrap * wrap;
  got += vec3(0.07, 0.09, 0.12) * max(dot(m, cool), 0.0);
  vec3 r = back * reflect(-v, n), f0 = mix(vec3(0.06), base, metal);
  vec3 f = f0 + (max(vec3(1.0 - rough), f0) - f0) * pow(1.0 - max(dot(n, v), 0.0), 5.0);
  return base * got * (1.0 - 0.92 * metal) + f * studio(r, rough) * mix(0.6, 1.0, metal);
}
vec3 toScreen(vec3 c) { c = c * (1.0 + 0.08 * c) / (1.0 + 0.30 * c); return pow(max(c, 0.0), vec3(1.0 / 2.2)); }`;

export const VERTEX = `
attribute vec4 tangent; attribute vec3 tint; attribute float part; attribute float lifted; attribute vec2 gloss;
uniform sampler2D parts; uniform float partCount;
varying vec3 vN, vT, vB, vP, vC; varying float vW, vL, vK; varying vec2 vUv, vG;
void main() {
  vL = lifted; vG = gloss; vUv = uv; vC = tint;
  vN = mat3(modelMatrix) * normal; vT = tangent.xyz; vW = tangent.w; vB = vW * cross(normal, tangent.xyz);
  vec4 own = vec4(0.0, 0.0, 0.0, 1.0);
  if (partCount > 0.0 && part >= 0.0) own = texture2D(parts, vec2((part + 0.5) / partCount, 0.5));
  vK = own.w > 1.5 ? 1.0 : 0.0; // chosen
  vec4 world = modelMatrix * vec4(position + own.xyz, 1.0); vP = world.xyz;
  gl_Position = own.w > 0.5 ? projectionMatrix * viewMatrix * world : vec4(2.0, 2.0, 2.0, 1.0);
}`;

// The receiver's side of the basis, in the form that the map was made for. Kinds: 1 tangent space, 2 object space, 3 a
// colour painted on, 4 the difference of two pictures, 5 squares of texels, coloured by their density.
export const FRAGMENT = `
precision highp float;
uniform sampler2D map; uniform sampler2D other_map; uniform sampler2D shade_map; uniform bool shaded;
uniform float clear; uniform int kind; uniform float green; uniform bool lit; uniform int clipped;
uniform mat3 cameraTurn; uniform float light; uniform bool perVertex; uniform bool unit; uniform float hand;
uniform vec3 rake; uniform float roughness; uniform float metalness; uniform vec2 texels; uniform float usual;
uniform bool lighting; uniform vec4 ball; // only what lies in it is drawn, or with a negative radius only what does not
varying vec3 vN, vT, vB, vP, vC; varying float vW, vL, vK; varying vec2 vUv, vG;
${SHADE}
vec3 squares() {
  vec2 at = vUv * texels, cell = floor(at / 32.0);
  float of = abs(determinant(mat2(dFdx(at), dFdy(at)))), area = length(cross(dFdx(vP), dFdy(vP)));
  float finer = 0.5 * log2(max(of, 1e-20) / max(area, 1e-20)) - log2(usual);
  vec3 away = finer > 0.0 ? vec3(0.12, 0.48, 0.42) : vec3(0.77, 0.25, 0.18);
  vec3 tone = mix(vec3(0.62), away, min(abs(finer) / 1.5, 1.0));
  return tone * (mod(cell.x + cell.y, 2.0) < 0.5 ? 1.0 : 0.68);
}
vec3 fromTangents(vec3 s) {
  vec3 t = 2.0 * s - 1.0;
  t.y *= green * hand;
  vec3 N = unit ? normalize(vN) : vN, T = unit ? normalize(vT) : vT;
  vec3 B = perVertex ? (unit ? normalize(vB) : vB) : vW * cross(N, T);
  return normalize(t.x * T + t.y * B + t.z * N);
}
bool beyondRange(vec3 s) {
  return (clipped == 1 && s.x < 0.003) || (clipped > 0 && max(s.x, max(s.y, s.z)) > 0.997);
}
void main() {
  if (ball.w != 0.0 && (distance(vP, ball.xyz) < abs(ball.w)) != (ball.w > 0.0)) discard;
  vec3 n = normalize(vN), s = texture2D(map, vUv).xyz;
  if (kind == 1) n = fromTangents(s);
  if (kind == 2) n = normalize(2.0 * s - 1.0);
  if (kind == 4) { gl_FragColor = vec4(min(abs(s - texture2D(other_map, vUv).xyz) * 8.0, 1.0), 1.0); return; }
  if (beyondRange(s) && mod(gl_FragCoord.x + gl_FragCoord.y, 7.0) < 2.6) {
    gl_FragColor = vec4(0.77, 0.25, 0.18, 1.0);
    return;
  }
  if (kind == 5) s = squares();
  if (!lit) { gl_FragColor = vec4(kind > 0 ? s : 0.5 * n + 0.5, 1.0); return; }
  vec3 base = kind == 3 || kind == 5 ? 0.9 * pow(s, vec3(2.2)) : vC; // other maps are painted on
  vec3 dimmed = vec3(dot(base, vec3(0.3, 0.6, 0.1)) * 0.5 + 0.12);
  if (lighting) base = vL > 0.5 ? mix(base, vec3(0.10, 0.46, 0.40), 0.55) : dimmed;
  if (vK > 0.5) base = mix(base, vec3(0.10, 0.46, 0.40), 0.4);
  vec3 seen = shade(n, normalize(cameraPosition - vP), base);
  if (shaded) seen *= texture2D(shade_map, vUv).x;
  gl_FragColor = vec4(toScreen(seen), clear);
}`;
