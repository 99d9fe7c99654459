import type { Transport } from './messages.js';

/** Which transport worked where the best did not, and until when that is believed; kept between visits where that is possible. */
export const memory = {
  key: (url: string) => `rovett ${url}`,
  get(url: string): { transport: Transport; until: number } | undefined {
    try {
      return JSON.parse(globalThis.localStorage?.getItem(memory.key(url)) ?? 'null') ?? undefined;
    } catch {
      return undefined;
    }
  },
  set(url: string, worked: { transport: Transport; until: number } | undefined): void {
    try {
      if (worked) globalThis.localStorage?.setItem(memory.key(url), JSON.stringify(worked));
      else globalThis.localStorage?.removeItem(memory.key(url));
    } catch {
      // Storage is off: it is tried anew each visit.
    }
  },
};
