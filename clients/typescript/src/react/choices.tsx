'use client';

import { type ComponentProps, useEffect, useState } from 'react';
import { Choices } from '../choices.js';
import { ChoicesPiece } from '../pieces/choices.js';
import { type ChoicesTexts, choicesTexts } from '../pieces/choices-texts.js';
import { useLive, useReadable } from './hooks.js';
import { render, usePiece } from './render.js';

export { type ChoicesTexts, choicesTexts } from '../pieces/choices-texts.js';

/** The user's choices for as long as it is rendered; null before there is a connection. `value` is null until they are known. */
export function useChoices(): Choices | null {
  const live = useLive();
  const [choices, setChoices] = useState<Choices | null>(null);
  useEffect(() => {
    if (!live) return;
    const made = new Choices(live);
    setChoices(made);
    return () => {
      setChoices(null);
      made.close();
    };
  }, [live]);
  useReadable(choices, null);
  return choices;
}

export type ChoicesPanelProps = Omit<ComponentProps<'section'>, 'children'> & { texts?: Partial<ChoicesTexts> };

/** What the user is told of, and when devices are quiet. */
export function ChoicesPanel({ texts: given, ...section }: ChoicesPanelProps) {
  const piece = usePiece((live) => new ChoicesPiece(live));
  return render(piece.show({ texts: { ...choicesTexts, ...given } }), section);
}
