'use client';

import { createElement, type ReactNode, useEffect, useState, useSyncExternalStore } from 'react';
import type { Live } from '../live.js';
import { type Inside, Own, type Part, type Piece, type Props } from '../pieces/part.js';
import { useLive } from './hooks.js';

const names: Record<string, string> = {
  datetime: 'dateTime',
  tabindex: 'tabIndex',
  onpointerenter: 'onPointerEnter',
  onpointerleave: 'onPointerLeave',
  onfocusin: 'onFocus',
  onfocusout: 'onBlur',
  onauxclick: 'onAuxClick',
};

function named(props: Props): Record<string, unknown> {
  const made: Record<string, unknown> = {};
  for (const [name, value] of Object.entries(props)) {
    if (value === undefined || value === null) continue;
    if (names[name]) made[names[name]] = value;
    else if (name.startsWith('on')) made[`on${name[2]?.toUpperCase()}${name.slice(3)}`] = value;
    else if (/^(aria|data)-/.test(name)) made[name] = value;
    else made[name.replace(/-(\w)/g, (_, letter) => letter.toUpperCase())] = value;
  }
  return made;
}

/** A part as React's own. */
export function render({ tag, name, key, props, inside }: Part, more: object = {}): ReactNode {
  const all = { ...named(props), ...(name && { 'data-part': name }), ...more, ...(key !== undefined && { key }) };
  return createElement(tag, all, ...inside.map(one));
}

const one = (inside: Inside): ReactNode =>
  typeof inside === 'string' ? inside : inside instanceof Own ? (inside.content as ReactNode) : render(inside);

/** A piece for as long as it is rendered; before there is a connection, one that waits. */
export function usePiece<P extends Piece>(make: (live: Live | null) => P, ...by: unknown[]): P {
  const live = useLive();
  const [waiting] = useState(() => make(null));
  const [piece, setPiece] = useState<P | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: `make` is another function each time; what it depends on is named
  useEffect(() => {
    if (!live) return;
    const made = make(live);
    setPiece(made);
    return () => {
      setPiece(null);
      made.close();
    };
  }, [live, ...by]);
  const shown = piece ?? waiting;
  useSyncExternalStore(
    shown.subscribe,
    () => shown.value,
    () => 0,
  );
  return shown;
}
