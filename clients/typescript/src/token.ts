/** Gives a token of the user. */
export type TokenSource = () => string | Promise<string>;

/** Asks an address of yours for the user's token, which it answers as text. Whatever else it answers, such as a page to sign in on, is an
 * error, and asked for again a little later. */
export function tokenFrom(address: string | URL, init?: RequestInit): TokenSource {
  return async () => {
    const answer = await fetch(address, { cache: 'no-store', ...init });
    if (!answer.ok) throw new Error(`${address} answered ${answer.status}`);
    return answer.text();
  };
}

/** Calls it, and looks at what it gives: what is no token at all is its failure, and no word of the service. */
export async function tokenOf(source: TokenSource): Promise<string> {
  let token: unknown;
  try {
    token = await source();
  } catch (error) {
    throw new Error(`no token: ${(error as Error)?.message ?? error}`);
  }
  const text = typeof token === 'string' ? token.trim() : '';
  if (/^[\w-]+\.[\w-]+\.[\w-]*$/.test(text)) return text;
  const shown = typeof token === 'string' ? `"${text.slice(0, 40)}${text.length > 40 ? '…' : ''}"` : `${token}`;
  throw new Error(`no token: what it gave is none: ${shown}`);
}
