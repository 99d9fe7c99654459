import { type Inside, Own, type Part, type Props } from '../pieces/part.js';

const drawing = new Set(['svg', 'path', 'circle']);
const made = new WeakMap<Node, Part>();
/** What a user changes, and an attribute therefore does not say. */
const live = new Set(['value', 'checked', 'disabled', 'popover']);

/** Has an element hold just these, changing as little as it can: what is focused, scrolled or chosen in it stays so. */
export function fill(parent: Element, inside: readonly Inside[]): void {
  const left = [...parent.childNodes];
  let at = parent.firstChild;
  for (const want of inside) {
    const found = left.findIndex((node) => fits(node, want));
    const node = found < 0 ? make(want) : (left.splice(found, 1)[0] as ChildNode);
    if (node === at) at = at.nextSibling;
    else parent.insertBefore(node, at);
    if (typeof want === 'string') {
      if (node.nodeValue !== want) node.nodeValue = want;
    } else if (!(want instanceof Own)) set(node as Element, want);
  }
  for (const node of left) node.remove();
}

function fits(node: Node, want: Inside): boolean {
  if (typeof want === 'string') return node.nodeType === 3;
  if (want instanceof Own) return node === want.content;
  const is = made.get(node);
  return is?.tag === want.tag && is.key === want.key && firstOf(is.name) === firstOf(want.name);
}

/** An item that is new is the same item as when it is read. */
const firstOf = (name: string) => name.split(' ', 1)[0];

function make(want: Inside): ChildNode {
  if (typeof want === 'string') return document.createTextNode(want);
  if (want instanceof Own) return want.content as ChildNode;
  return drawing.has(want.tag)
    ? document.createElementNS('http://www.w3.org/2000/svg', want.tag)
    : document.createElement(want.tag);
}

function set(element: Element, want: Part): void {
  const before: Props = made.get(element)?.props ?? {};
  made.set(element, want);
  if (want.name && element.getAttribute('part') !== want.name) {
    element.setAttribute('part', want.name);
    element.setAttribute('data-part', want.name);
  }
  fill(element, want.inside);
  for (const name of new Set([...Object.keys(before), ...Object.keys(want.props)])) {
    const value = want.props[name] ?? undefined;
    if (name.startsWith('on')) {
      if (!(name in before)) element.addEventListener(name.slice(2), (event) => handle(element, name, event));
    } else if (live.has(name)) {
      if (Reflect.get(element, name) !== value) Reflect.set(element, name, value ?? null);
    } else if (value === undefined || value === false) element.removeAttribute(name);
    else if (value !== before[name]) element.setAttribute(name, value === true ? '' : `${value}`);
  }
}

/** By the handler of now: each time that it is shown anew, there is another one. */
function handle(element: Element, name: string, event: Event): void {
  const handler = made.get(element)?.props[name];
  if (typeof handler === 'function') void handler(event);
}
