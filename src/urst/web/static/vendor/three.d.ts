export * from 'three';
export { OrbitControls } from 'three/addons/controls/OrbitControls.js';
