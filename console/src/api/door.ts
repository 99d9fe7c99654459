/** A refusal with its reason and fix (RFC 9457). */
export interface Problem {
  type?: string;
  title: string;
  detail: string;
  fix?: string;
  status?: number;
  errors?: { field: string; detail: string }[];
}

/** The service refused, or could not be reached. */
export class Refused extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.title);
    this.problem = problem;
  }

  /** Nobody is signed in any more. */
  get isSignedOut(): boolean {
    return this.problem.status === 401;
  }
}

/** The service could not be reached. */
export const away: Problem = {
  title: 'The service does not answer',
  detail: 'It may be restarting, or the network is down.',
};

async function call(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<Response> {
  const isText = typeof body === 'string';
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      headers: {
        ...(method !== 'GET' && { 'X-Rovett-Console': '1' }),
        ...(body !== undefined && !isText && { 'Content-Type': 'application/json' }),
        ...headers,
      },
      body: body === undefined || isText ? (body as string | undefined) : JSON.stringify(body),
    });
  } catch {
    throw new Refused(away);
  }
  if (response.ok) return response;
  throw new Refused(await problemOf(response));
}

async function problemOf(response: Response): Promise<Problem> {
  try {
    return (await response.json()) as Problem;
  } catch {
    return { ...away, detail: `It was answered with ${response.status}.`, status: response.status };
  }
}

const bodyOf = async <T>(response: Response): Promise<T> =>
  response.status === 204 ? (undefined as T) : response.json();

/** The console's own interface. */
export const own = {
  get: async <T>(path: string): Promise<T> => bodyOf(await call('GET', `/console/api/${path}`)),
  post: async <T = void>(path: string, body: object = {}): Promise<T> =>
    bodyOf(await call('POST', `/console/api/${path}`, body)),
};

/** A page of a list, with where the next begins. */
export interface Page<T> {
  value: T;
  next: string | null;
}

/** The public API of a space, with the operator's session in place of a key. */
export function api(space: string) {
  const at = (path: string) => `/console/s/${encodeURIComponent(space)}${path}`;
  return {
    get: async <T>(path: string): Promise<T> => bodyOf(await call('GET', at(path))),
    page: async <T>(path: string): Promise<Page<T>> => {
      const response = await call('GET', at(path));
      const link = /<(?:\/s\/[^/]+)?([^>]+)>; rel="next"/.exec(response.headers.get('Link') ?? '');
      return { value: await response.json(), next: link?.[1] ?? null };
    },
    send: async <T = void>(
      method: string,
      path: string,
      body?: unknown,
      headers?: Record<string, string>,
    ): Promise<T> => bodyOf(await call(method, at(path), body, headers)),
  };
}
