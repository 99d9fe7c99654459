/** The pieces' look for all `<rovett-…>` elements of the page, but those that are `plain`. */
import { look } from '../look-css.js';
import { giveLook } from './element.js';

giveLook(look);
