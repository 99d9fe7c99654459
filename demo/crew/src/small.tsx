import { StrictMode, useState } from 'react';
import { createRoot } from 'react-dom/client';
import type { RovettBell } from 'rovett/bell';
import { InboxPanel, MutePanel, RovettProvider, UnreadBell } from 'rovett/react';

const user = 'mara';
const token = async () => (await (await fetch(`/api/token?user=${user}`, { method: 'POST' })).json()).token;
const { service } = await (await fetch('/api/people')).json();

function App() {
  const [open, setOpen] = useState(false);
  return (
    <RovettProvider key={user} url={service} token={token}>
      <h2>With React</h2>
      <UnreadBell onClick={() => setOpen(!open)} />
      {open && <InboxPanel limit={5} />}
      {open && <MutePanel />}
    </RovettProvider>
  );
}

createRoot(document.getElementById('react') as HTMLElement).render(
  <StrictMode>
    <App />
  </StrictMode>,
);

const bell = document.querySelector('rovett-bell') as RovettBell;
bell.token = token;
bell.setAttribute('url', service);
await import('rovett/bell');
