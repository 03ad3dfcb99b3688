// How points are drawn: the shader that all clouds share, and the materials made of it.
import * as THREE from "../vendor/three.module.js";
import { declarations, rampModes } from "./layout.js";
import { rgb } from "./palette.js";

const MODES = ["intensity", "native", "photo", "scan", "class", "height", "dimension"];
export const modes = () => [...MODES, ...rampModes()]; // colourings, in the shader's numbers
const vertex = () => `precision highp float; precision highp int;
${declarations()}
uniform mat4 modelMatrix, viewMatrix, projectionMatrix;
uniform int uMode, uBoxOn, uHidden; uniform bool uAboutZero; uniform float uSize, uGrow; uniform mat4 uBox; uniform bool uFacing; uniform vec4 uEye, uStand; uniform vec2 uHeights, uTone, uSlab; uniform bool uSlabOn, uWallOn; uniform vec3 uScan, uInk; uniform vec4 uWall, uAlong;
uniform highp sampler2D uClasses;
out vec3 vColour;
vec3 ramp(float t) {
  vec3 a = vec3(.173, .431, .561), b = vec3(.424, .478, .184), c = vec3(.914, .773, .231), d = vec3(.706, .318, .184);
  return t < .33 ? mix(a, b, t * 3.) : t < .66 ? mix(b, c, t * 3. - 1.) : mix(c, d, min(t * 3. - 2., 1.));
}
// below and above 0, pale at it
vec3 sides(float t) {
  vec3 low = vec3(.122, .353, .471), none = vec3(.89, .87, .80), high = vec3(.62, .18, .09);
  return t < .5 ? mix(low, none, t * 2.) : mix(none, high, t * 2. - 1.);
}
void main() {
  vec4 w = modelMatrix * vec4(position.xyz, 1.);
  vec4 kind = texelFetch(uClasses, ivec2(int(KIND * 255. + .5), 0), 0);
  int flags = int(FLAGS * 255. + .5);
  bool gone = (flags & (HIDES | uHidden)) != 0 || kind.a < .5 || (uSlabOn && (w.z < uSlab.x || w.z > uSlab.y)) || (uWallOn && (abs(dot(uWall.xy, w.xy) - uWall.z) > uWall.w || dot(uAlong.xy, w.xy) < uAlong.z || dot(uAlong.xy, w.xy) > uAlong.w));
  bool boxed = all(lessThanEqual(abs((uBox * w).xyz), vec3(1.)));
  gone = gone || (uBoxOn == 1 && !boxed) || (uBoxOn == 2 && boxed);
  // a point is seen from behind where the eye lies on the other side of it than its station
  gone = gone || (uFacing && uStand.w > .5 && dot(uEye.w > .5 ? uEye.xyz - w.xyz : uEye.xyz, uStand.xyz - w.xyz) < 0.);
  gl_Position = gone ? vec4(3., 3., 3., 1.) : projectionMatrix * viewMatrix * w;
  gl_PointSize = uGrow > 0. ? clamp(uSize * uGrow / gl_Position.w, 1., 4. * uSize) : uSize;
  float tone = clamp((TONE * 65535. - uTone.x) / max(uTone.y - uTone.x, 1.), 0., 1.);
  if (uMode == 0) vColour = mix(vec3(.09, .12, .12), vec3(.93, .90, .82), pow(tone, .8));
  else if (uMode == 1) vColour = dot(NATIVE, vec3(1.)) > 0. ? NATIVE : vec3(.62, .60, .55) * (.6 + .4 * tone);
  else if (uMode == 2) vColour = dot(PHOTO, vec3(1.)) > 0. ? PHOTO : vec3(.62, .60, .55) * (.6 + .4 * tone);
  else if (uMode == 3) vColour = uScan * (.72 + .28 * tone);
  else if (uMode == 4) vColour = kind.rgb * (.75 + .25 * tone);
  else if (uMode == 5) vColour = ramp(clamp((w.z - uHeights.x) / (uHeights.y - uHeights.x), 0., 1.)) * (.75 + .25 * tone);
  else if (uMode == 6) {
    float t = (SHADE * 255. - 1.) / 254.;
    vColour = SHADE < .002 ? vec3(.62, .60, .55) * (.6 + .4 * tone) : uAboutZero ? sides(t) : ramp(t);
  }
  else if (uMode < 0) vColour = uInk;
  else vColour = ramp(RAMP(uMode));
}`;
const FRAGMENT = `precision mediump float; in vec3 vColour; uniform float uAlpha; out vec4 colour; void main() { colour = vec4(vColour, uAlpha); }`;

// Both kinds of points count as not opaque, so that they share one compiled program.
const BLENDING = { none: 0, normal: 1 };
const FAINT = 0.2; // opacity

const made = (how, uniforms) =>
  new THREE.RawShaderMaterial({
    vertexShader: vertex(),
    fragmentShader: FRAGMENT,
    glslVersion: THREE.GLSL3,
    ...how,
    uniforms,
  });

// The points of a scan: its colour, the intensities that are dark and light, where it stood; solid, or faint touches that add up.
export function pointsMaterial(shared, { colour, tone, stand, faint }) {
  const blending = faint ? BLENDING.normal : BLENDING.none;
  const how = { blending, depthTest: !faint, depthWrite: !faint, transparent: faint };
  return made(how, {
    ...shared,
    uScan: { value: new THREE.Color(...rgb(colour)) },
    uTone: { value: new THREE.Vector2(...tone) },
    uAlpha: { value: faint ? FAINT : 1 },
    uStand: { value: stand },
  });
}

// Points over all others in one colour.
export function marksMaterial(shared, colour, size) {
  const ink = new THREE.Color(...rgb(colour));
  return made(
    { blending: BLENDING.none, depthTest: false, depthWrite: false },
    {
      ...shared,
      uMode: { value: -1 },
      uSize: { value: size },
      uGrow: { value: 0 },
      uFacing: { value: false },
      uInk: { value: ink },
      uScan: { value: ink },
      uTone: { value: new THREE.Vector2(0, 1) },
      uAlpha: { value: 1 },
      uStand: { value: new THREE.Vector4() },
    },
  );
}

// Uniforms that all materials share: what is shown, and where it is cut.
export function sharedUniforms(classTexture) {
  return {
    uMode: { value: 0 },
    uSize: { value: 2 },
    uHeights: { value: new THREE.Vector2(0, 10) },
    uSlab: { value: new THREE.Vector2(-1e9, 1e9) },
    uSlabOn: { value: false },
    uWallOn: { value: false },
    uWall: { value: new THREE.Vector4() },
    uAlong: { value: new THREE.Vector4() },
    uBox: { value: new THREE.Matrix4() },
    uBoxOn: { value: 0 },
    uFacing: { value: false },
    uEye: { value: new THREE.Vector4() },
    uGrow: { value: 0 },
    uClasses: { value: classTexture },
    uHidden: { value: 0 },
    uAboutZero: { value: false },
    uInk: { value: new THREE.Color(0x1d2b2a) },
  };
}
