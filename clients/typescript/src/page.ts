/** What happens to a page. */
export interface PageLife {
  online(): void;
  /** Out of the freezer, or back out of the cache of pages that were left. */
  thawed(): void;
  frozen(): void;
  seen(): void;
  hidden(): void;
}

/** Listens to the page, where there is one, until the function that it returns is called. */
export function watchPage(life: PageLife): () => void {
  const page = globalThis.document as Document | undefined;
  if (!page) return () => undefined;
  const stops: (() => void)[] = [];
  const on = (target: EventTarget, type: string, listener: (event: Event) => void) => {
    target.addEventListener(type, listener);
    stops.push(() => target.removeEventListener(type, listener));
  };
  on(globalThis as unknown as EventTarget, 'online', life.online);
  on(
    globalThis as unknown as EventTarget,
    'pageshow',
    (event) => (event as PageTransitionEvent).persisted && life.thawed(),
  );
  on(page, 'resume', life.thawed);
  on(page, 'freeze', life.frozen);
  on(page, 'visibilitychange', () => (isHidden() ? life.hidden() : life.seen()));
  return () => {
    for (const stop of stops) stop();
  };
}

export function isHidden(): boolean {
  return globalThis.document?.visibilityState === 'hidden';
}

/** A timer that keeps no program alive. */
export function later(work: () => void, ms: number): ReturnType<typeof setTimeout> {
  const timer = setTimeout(work, ms);
  (timer as { unref?: () => void }).unref?.();
  return timer;
}
