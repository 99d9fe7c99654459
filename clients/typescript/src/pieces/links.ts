/** A notification's link, if it is one that a page may offer: to a page, and nothing that runs. */
export function safe(link: string | undefined): string | undefined {
  if (!link) return undefined;
  try {
    const { protocol } = new URL(link, globalThis.location?.href ?? 'https://page.invalid');
    return ['https:', 'http:', 'mailto:', 'tel:'].includes(protocol) ? link : undefined;
  } catch {
    return undefined;
  }
}
