import { useEffect, useState } from 'react';
import type { Notification, Transport } from 'rovett';
import {
  InboxPanel,
  InboxToasts,
  RovettProvider,
  UnreadBell,
  useLive,
  useLiveState,
  useNotificationHandler,
  usePresence,
  useUnreadTotal,
} from 'rovett/react';
import { ChoicesPanel } from 'rovett/react/choices';
import { connectShared } from 'rovett/shared';
import type { NotificationData } from './types';

const transportName: Record<Transport, string> = {
  websocket: 'WebSocket',
  sse: 'server-sent events',
  'long-poll': 'long poll',
};

export interface Shown {
  unread: number;
  here: string;
}

interface DeviceProps {
  service: string;
  user: string;
  role: string;
  label: string;
  onShown: (shown: Shown | null) => void;
  onRemove?: (() => void) | undefined;
}

/** One device of a person, with switches for what may happen to it. */
export function Device({ service, user, role, label, onShown, onRemove }: DeviceProps) {
  const [isOffline, setOffline] = useState(false);
  const [blocked, setBlocked] = useState(false);
  const name = `${user}-${label}`;
  // It is the service's: it outlives this page, and another tab may have set it.
  useEffect(() => {
    fetch(`/api/fault?device=crew-${name}`)
      .then((answer) => answer.json())
      .then((fault) => setBlocked(fault.blocked));
  }, [name]);
  useEffect(() => {
    if (isOffline) onShown(null);
  }, [isOffline]);
  const block = async (wanted: boolean) => {
    setBlocked(wanted);
    await fetch(`/api/fault?device=crew-${name}&blocked=${wanted}`, { method: 'POST' });
  };
  const switches = (
    <div className="switches">
      <Switch label="Offline" on={isOffline} onChange={setOffline} />
      <Switch label="Block WebSocket" on={blocked} onChange={block} />
    </div>
  );
  return (
    <section className="device" data-device={name} aria-label={`${user}, ${label}`}>
      {isOffline ? (
        <>
          <header>
            <h3>{titled(label)}</h3>
            <Remove label={label} onRemove={onRemove} />
          </header>
          <p className="screen">Switched off. What comes meanwhile is here once it is switched on again.</p>
          <div className="strip">
            <dl data-state="offline">
              <div>
                <dt>Connection</dt>
                <dd>none</dd>
              </div>
            </dl>
            {switches}
          </div>
        </>
      ) : (
        <RovettProvider
          url={service}
          token={() => token(user)}
          device={`crew-${name}`}
          label={label}
          connect={connectShared}
          upgradeMs={5000}
        >
          <Connected user={user} label={label} role={role} switches={switches} onShown={onShown} onRemove={onRemove} />
        </RovettProvider>
      )}
    </section>
  );
}

const titled = (label: string) => label[0]?.toUpperCase() + label.slice(1);

function Remove({ label, onRemove }: { label: string; onRemove?: (() => void) | undefined }) {
  if (!onRemove) return null;
  return (
    <button className="quiet-button" type="button" aria-label={`Remove the ${label}`} onClick={onRemove}>
      Remove
    </button>
  );
}

function Switch({ label, on, onChange }: { label: string; on: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="switch">
      <input type="checkbox" checked={on} onChange={(e) => onChange(e.currentTarget.checked)} /> {label}
    </label>
  );
}

async function token(user: string): Promise<string> {
  const made = await fetch(`/api/token?user=${user}`, { method: 'POST' });
  return (await made.json()).token;
}

/** The inbox as it stands open on a screen, a bell that closes it, and a strip that says how it is connected. */
function Connected({
  user,
  label,
  role,
  switches,
  onShown,
  onRemove,
}: Pick<DeviceProps, 'user' | 'label' | 'role' | 'onShown' | 'onRemove'> & { switches: React.ReactNode }) {
  const live = useLive();
  const unread = useUnreadTotal();
  const { phase, transport, through, tried, reconnects } = useLiveState();
  const { people } = usePresence(`role:${role}`);
  const [isOpen, setOpen] = useState(true);
  const [check, setCheck] = useState<number | null>(null);
  const here = people?.map((p) => p.displayName ?? p.user).join(', ') ?? '';
  useNotificationHandler(
    'engine.check.due',
    ({ data }: Notification<NotificationData['engine.check.due']>) => void setCheck(data?.checkId ?? null),
  );
  useEffect(() => {
    if (unread !== null) onShown({ unread, here });
  }, [unread, here]);
  const failed = tried.filter((t) => t.outcome === 'failed');
  return (
    <>
      <header data-unread={unread ?? ''} data-here={people?.length ?? ''}>
        <h3>{titled(label)}</h3>
        <Remove label={label} onRemove={onRemove} />
        <UnreadBell aria-expanded={isOpen} onClick={() => setOpen(!isOpen)} />
      </header>
      {isOpen ? (
        <InboxPanel
          limit={50}
          aria-label={`Notifications on the ${label} of ${user}`}
          choices={<ChoicesPanel />}
          onFollow={(_, event) => event.preventDefault()}
        />
      ) : (
        <div className="screen">
          The inbox is closed. What comes is shown for a moment.
          <InboxToasts />
        </div>
      )}
      <div className="strip">
        <dl
          data-state={phase}
          data-transport={transport ? transportName[transport] : ''}
          data-through={through ?? ''}
          data-check={check ?? ''}
        >
          <div>
            <dt>Last cursor</dt>
            <dd>{live?.cursor ? <code>{live.cursor.slice(0, 8)}</code> : 'none'}</dd>
          </div>
          <div>
            <dt>Reconnects</dt>
            <dd>{reconnects}</dd>
          </div>
          {through && (
            <div>
              <dt>Through</dt>
              <dd>{through}</dd>
            </div>
          )}
          {failed.length > 0 && (
            <div>
              <dt>Did not work</dt>
              <dd className="why">{failed.map((t) => `${transportName[t.transport]}: ${t.why}`).join('; ')}</dd>
            </div>
          )}
        </dl>
        {switches}
      </div>
    </>
  );
}
