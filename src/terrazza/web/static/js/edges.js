// Shading that shows shape without normals: points darken where what surrounds them on the screen lies nearer
// (depth differences to eight neighbours; after Boucheny 2009, “eye-dome lighting”).
import * as THREE from "../vendor/three.module.js";

const VERTEX = `precision highp float; in vec3 position; out vec2 vAt; void main() { vAt = position.xy * .5 + .5; gl_Position = vec4(position.xy, 0., 1.); }`;
const FRAGMENT = `precision highp float; in vec2 vAt; out vec4 colour;
uniform sampler2D uColour, uDepth; uniform vec4 uPane; uniform vec2 uPixel; uniform vec3 uLens; uniform float uReach; uniform bool uOn;
float far(vec2 at) {
  float d = texture(uDepth, at).r;
  if (d >= 1.) return 1e6;
  // log2 of the distance for a perspective view, plain metres over the strength for a parallel one
  return uLens.z > .5 ? log2(2. * uLens.x * uLens.y / (uLens.y + uLens.x - (2. * d - 1.) * (uLens.y - uLens.x))) : (uLens.x + d * (uLens.y - uLens.x)) * .25;
}
void main() {
  vec2 at = uPane.xy + vAt * uPane.zw;
  colour = texture(uColour, at);
  if (!uOn) return;
  float here = far(at);
  if (here > 9e5) return;
  float shade = 0.;
  for (int k = 0; k < 8; k++) {
    float a = float(k) * .785398, d = far(clamp(at + uReach * uPixel * vec2(cos(a), sin(a)), uPane.xy, uPane.xy + uPane.zw));
    if (d < 9e5) shade += max(0., here - d);
  }
  colour.rgb *= exp(-shade * 22.);
}`;

export class Edges {
  constructor() {
    this.target = new THREE.WebGLRenderTarget(1, 1, {
      minFilter: 1003,
      magFilter: 1003,
      depthTexture: new THREE.DepthTexture(1, 1),
    });
    const triangle = new THREE.BufferGeometry();
    triangle.setAttribute(
      "position",
      new THREE.BufferAttribute(new Float32Array([-1, -1, 0, 3, -1, 0, -1, 3, 0]), 3),
    );
    this.uniforms = {
      uColour: { value: this.target.texture },
      uDepth: { value: this.target.depthTexture },
      uPane: { value: new THREE.Vector4() },
      uPixel: { value: new THREE.Vector2() },
      uLens: { value: new THREE.Vector3() },
      uReach: { value: 1.4 },
      uOn: { value: true },
    };
    const cover = new THREE.Mesh(
      triangle,
      new THREE.RawShaderMaterial({
        vertexShader: VERTEX,
        fragmentShader: FRAGMENT,
        glslVersion: THREE.GLSL3,
        depthTest: false,
        depthWrite: false,
        uniforms: this.uniforms,
      }),
    );
    cover.frustumCulled = false;
    this.scene = new THREE.Scene();
    this.scene.add(cover);
    this.camera = new THREE.OrthographicCamera();
  }

  // Points are drawn into the target from here on.
  begin(renderer) {
    const canvas = renderer.domElement;
    this.target.setSize(canvas.width, canvas.height);
    renderer.setRenderTarget(this.target);
  }

  // Bring one view's pane from the target to the screen, shaded. Rectangles are in canvas pixels.
  show(renderer, view, on) {
    const { width, height } = renderer.domElement,
      ratio = renderer.getPixelRatio(),
      r = view.rect,
      u = this.uniforms;
    renderer.setRenderTarget(null);
    renderer.setViewport(r.x, r.y, r.width, r.height);
    renderer.setScissor(r.x, r.y, r.width, r.height);
    u.uPane.value.set(
      (r.x * ratio) / width,
      (r.y * ratio) / height,
      (r.width * ratio) / width,
      (r.height * ratio) / height,
    );
    u.uPixel.value.set(ratio / width, ratio / height);
    u.uLens.value.set(view.camera.near, view.camera.far, view.camera.isOrthographicCamera ? 0 : 1);
    u.uOn.value = on;
    renderer.render(this.scene, this.camera);
  }
}
