import '@fontsource-variable/commissioner/full.css';
import 'rovett/look.css';
import './crew.css';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import type { RovettBell } from 'rovett/bell';
import { InboxBell, InboxPanel, RovettProvider } from 'rovett/react';
import { ChoicesPanel } from 'rovett/react/choices';
import * as rovett from 'rovett/vue';
import { createApp, h } from 'vue';

const user = 'mara';
const token = async () => (await (await fetch(`/api/token?user=${user}`, { method: 'POST' })).json()).token;
const { service } = await (await fetch('/api/people')).json();

createRoot(document.getElementById('react') as HTMLElement).render(
  <StrictMode>
    <RovettProvider key={user} url={service} token={token}>
      <h2>With React</h2>
      <div className="row">
        <InboxBell limit={5} />
      </div>
      <InboxPanel limit={5} aria-label="Notifications, with React" />
      <div className="sheet">
        <ChoicesPanel aria-label="What you are told, with React" />
      </div>
    </RovettProvider>
  </StrictMode>,
);

createApp({
  render: () =>
    h(rovett.RovettProvider, { url: service, token }, () => [
      h('h2', 'With Vue'),
      h('div', { class: 'row' }, h(rovett.InboxBell, { limit: 5 })),
      h(rovett.InboxPanel, { limit: 5, 'aria-label': 'Notifications, with Vue' }),
      h('div', { class: 'sheet' }, h(rovett.ChoicesPanel, { 'aria-label': 'What you are told, with Vue' })),
    ]),
}).mount('#vue');

// The service is at another address than this page. The bell has a connection, which the other elements of the page take.
for (const element of document.querySelectorAll('rovett-bell, rovett-topic')) element.setAttribute('url', service);
(document.querySelector('rovett-bell') as RovettBell).token = token;
await import('rovett/bell');
await Promise.all([
  import('rovett/choices-element'),
  import('rovett/toasts'),
  import('rovett/topic'),
  import('rovett/look'),
]);
