import '@fontsource-variable/commissioner/full.css';
import 'rovett/look.css';
import './crew.css';
import { StrictMode, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Device, type Shown } from './Device';

interface Person {
  id: string;
  name: string;
  roles: string[];
}

interface Office {
  service: string;
  people: Person[];
}

function App() {
  const [office, setOffice] = useState<Office | null>(null);
  const [next, setNext] = useState(0);
  const [devices, setDevices] = useState([['desk', 'phone'], ['phone']]);
  useEffect(() => void fetch('/api/people').then(async (r) => setOffice(await r.json())), []);

  async function happen() {
    setNext(next + 1);
    await fetch(`/api/happen?number=${next}`, { method: 'POST' });
  }

  const counts = devices.map((d) => d.length);
  return (
    <>
      <header className="host">
        <b>Marrow Sound Ferries</b>
        <nav aria-label="Crew pages">
          <a href="./" aria-current="page">
            Crew
          </a>
          <a href="small.html">Pieces</a>
        </nav>
        <span className="end">
          <button className="main-button" type="button" onClick={() => void happen()}>
            Send an event
          </button>
        </span>
      </header>
      <main className={counts[0] === counts[1] ? 'crew even' : 'crew'}>
        <h1 className="unseen">Two people side by side</h1>
        {office &&
          ['mara', 'teo'].map((start, at) => (
            <PersonSide
              key={start}
              office={office}
              start={start}
              devices={devices[at] ?? []}
              onDevices={(changed) => setDevices(devices.map((d, i) => (i === at ? changed : d)))}
            />
          ))}
      </main>
    </>
  );
}

function PersonSide(props: {
  office: Office;
  start: string;
  devices: string[];
  onDevices: (devices: string[]) => void;
}) {
  const { office, start, devices, onDevices } = props;
  const [id, setId] = useState(start);
  /** What each device shows; all of one person's are the same. */
  const [shown, setShown] = useState<Record<string, Shown | null>>({});
  const person = office.people.find((p) => p.id === id) as Person;
  const known = devices.map((label) => shown[`${id} ${label}`]).filter((s) => !!s);
  const unread = known[0]?.unread;
  const isSame = known.every((s) => s.unread === unread);
  return (
    <section
      className={devices.length > 1 ? 'person two' : 'person'}
      data-person={id}
      aria-label={`What ${person.name} sees`}
    >
      <div className="name">
        <h2>
          <select aria-label="Person" value={id} onChange={(e) => setId(e.currentTarget.value)}>
            {office.people.map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
          </select>
        </h2>
        <p>
          {person.roles.join(', ')}. {known[0]?.here && `On duty now: ${known[0].here}`}
        </p>
        <span className="total">
          <b>{isSame ? (unread ?? '–') : '…'}</b> unread{known.length > 1 && ' on both devices'}
        </span>
      </div>
      <div className="devices">
        {devices.map((label) => (
          <Device
            key={`${id}-${label}`}
            service={office.service}
            user={id}
            role={person.roles[0] ?? ''}
            label={label}
            onShown={(what) => setShown((before) => ({ ...before, [`${id} ${label}`]: what }))}
            onRemove={devices.length > 1 ? () => onDevices(devices.filter((d) => d !== label)) : undefined}
          />
        ))}
      </div>
      {devices.length < 2 && (
        <button className="quiet-button more" type="button" onClick={() => onDevices(['desk', 'phone'])}>
          Add a device
        </button>
      )}
    </section>
  );
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <App />
  </StrictMode>,
);
