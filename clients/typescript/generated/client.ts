// Compiled against types that a common generator makes of the OpenAPI document: see tests/generated.test.ts.
import createClient from 'openapi-fetch';
import type { paths } from '../build/reference/schema.js';

export async function sendListAndMark(baseUrl: string, apiKey: string, token: string): Promise<[number, number]> {
  const backend = createClient<paths>({ baseUrl, headers: { Authorization: `Bearer ${apiKey}` } });
  const sent = await backend.POST('/v1/notifications', {
    body: { to: ['user:mara'], type: 'engine.check.due', title: 'Turnstone: check engine 2 by 18:00' },
  });
  if (!sent.data?.id) throw new Error(sent.error?.detail);

  const user = createClient<paths>({ baseUrl, headers: { Authorization: `Bearer ${token}` } });
  const inbox = await user.GET('/v1/inbox', { params: { query: { state: 'unread' } } });
  const item = inbox.data?.items.find((i) => i.id === sent.data.id);
  if (!item) throw new Error(inbox.error?.detail ?? 'It is not in the inbox.');

  const marked = await user.POST('/v1/inbox/marks', { body: { read: { ids: [item.id] } } });
  if (!marked.data) throw new Error(marked.error?.fix);
  return [inbox.data?.totals.unread ?? -1, marked.data.totals.unread];
}
