/** All of it in one file, for pages without a bundler: `<script type="module" src="https://notify.example/rovett.js">`. */
export { RovettBell } from './bell.js';
export * from './index.js';
export { connectShared } from './shared.js';
