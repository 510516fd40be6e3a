// The shaders of the model view.
const SHADE = `
vec3 shade(vec3 n, vec3 v, vec3 base) {
  mat3 about = cameraTurn * mat3(cos(light), 0.0, -sin(light), 0.0, 1.0, 0.0, sin(light), 0.0, cos(light));
  vec3 key = normalize(about * vec3(-0.45, 0.62, 0.64)), rim = normalize(about * vec3(0.75, 0.35, -0.55));
  float wrap = max(dot(n, key) * 0.82 + 0.18, 0.0);
  float sky = 0.5 + 0.5 * n.y;
  vec3 c = base * (vec3(0.045, 0.045, 0.05) + vec3(0.13, 0.14, 0.16) * sky + vec3(0.74, 0.70, 0.63) * wrap * wrap);
  vec3 h = normalize(key + v), r = reflect(-v, n);
  float f = 0.05 + 0.95 * pow(1.0 - max(dot(n, v), 0.0), 5.0);
  vec3 tint = mix(vec3(0.30), base * 1.5 + 0.08, 0.75);
  c += tint * (pow(max(dot(n, h), 0.0), 60.0) * 0.95 + pow(max(dot(n, h), 0.0), 9.0) * 0.14);
  c += tint * pow(max(dot(n, normalize(rim + v)), 0.0), 16.0) * 0.22;
  c += (tint * 0.20 + f * 0.12) * smoothstep(-0.15, 0.75, r.y);
  return c;
}
vec3 toScreen(vec3 c) { c = c * (1.0 + 0.08 * c) / (1.0 + 0.30 * c); return pow(max(c, 0.0), vec3(1.0 / 2.2)); }`;

export const VERTEX = `
attribute vec4 tangent; attribute vec3 tint; attribute float part;
uniform sampler2D parts; uniform float partCount;
varying vec3 vN, vT, vB, vP, vC; varying float vW; varying vec2 vUv;
void main() {
  vN = mat3(modelMatrix) * normal; vT = tangent.xyz; vW = tangent.w; vB = vW * cross(normal, tangent.xyz); vUv = uv; vC = tint;
  vec4 own = partCount > 0.0 && part >= 0.0 ? texture2D(parts, vec2((part + 0.5) / partCount, 0.5)) : vec4(0.0, 0.0, 0.0, 1.0);
  vec4 world = modelMatrix * vec4(position + own.xyz, 1.0); vP = world.xyz;
  gl_Position = own.w > 0.5 ? projectionMatrix * viewMatrix * world : vec4(2.0, 2.0, 2.0, 1.0);
}`;

// The receiver's side of the basis, in the form that the map was made for.
export const FRAGMENT = `
precision highp float;
uniform sampler2D map; uniform sampler2D shade_map; uniform bool shaded; uniform float clear; uniform int kind; uniform float green; uniform bool lit; uniform bool clipped; uniform mat3 cameraTurn; uniform float light;
uniform bool perVertex; uniform bool unit; uniform float hand;
varying vec3 vN, vT, vB, vP, vC; varying float vW; varying vec2 vUv;
${SHADE}
void main() {
  vec3 n = normalize(vN), s = texture2D(map, vUv).xyz;
  if (kind == 1) { vec3 t = 2.0 * s - 1.0; t.y *= green * hand; vec3 N = unit ? normalize(vN) : vN, T = unit ? normalize(vT) : vT, B = perVertex ? (unit ? normalize(vB) : vB) : vW * cross(N, T); n = normalize(t.x * T + t.y * B + t.z * N); }
  if (kind == 2) n = normalize(2.0 * s - 1.0);
  if (clipped && (s.x < 0.003 || s.x > 0.997) && mod(gl_FragCoord.x + gl_FragCoord.y, 7.0) < 2.6) { gl_FragColor = vec4(0.77, 0.25, 0.18, 1.0); return; }
  if (!lit) { gl_FragColor = vec4(kind > 0 ? s : 0.5 * n + 0.5, 1.0); return; }
  vec3 base = kind == 3 ? 0.9 * pow(s, vec3(2.2)) : vC; // other maps are painted on
  vec3 seen = shade(n, normalize(cameraPosition - vP), base);
  if (shaded) seen *= texture2D(shade_map, vUv).x;
  gl_FragColor = vec4(toScreen(seen), clear);
}`;

// A colour of the page as the screen shows it, light or dark.
