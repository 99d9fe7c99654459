/** All of it in one file, for pages without a bundler: `<script type="module" src="https://notify.example/rovett.js">`. */
export { Choices } from './choices.js';
export { RovettBell } from './elements/bell.js';
export { RovettChoices } from './elements/choices.js';
export { RovettToasts } from './elements/toasts.js';
export { RovettTopic } from './elements/topic.js';

import './elements/look.js';

export * from './index.js';
export { connectShared } from './shared.js';
