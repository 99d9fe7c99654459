import { Button, Menu, TextInput, UnstyledButton } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, own } from '../../api/door';
import { ago, day, many, when } from '../../api/times';
import type { AccessView, Act, OperatorsView } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Ask } from '../../look/Ask';
import { Glyph } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import { Asked, Failed } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Operators.module.css';

/** Who may use the console, who signed in or tried to, and what was done. */
export function Operators() {
  const { space } = useHere();
  const view = useQuery({
    queryKey: [space, 'operators'],
    queryFn: () => own.get<OperatorsView>('operators'),
    refetchInterval: 10_000,
  });
  return <Asked query={view}>{(answer) => <Shown {...answer} />}</Asked>;
}

function Shown({ operators, sessions, signIns }: OperatorsView) {
  const { mayOperate } = useHere();
  const refused = signIns.filter((s) => !s.signedIn).length;
  return (
    <>
      <Plank tone="open">
        <h1>{many(operators.length, 'operator')}</h1>
        <p className={styles.lead}>
          {operators.filter((o) => o.may === 'operate').length} may operate{operators.length > 1 && ', the others look'}
          . Of the newest {many(signIns.length, 'sign-in')} {refused === 0 ? 'none was' : many(refused, 'was', 'were')}{' '}
          refused.
        </p>
        {mayOperate && <Invite />}
      </Plank>
      <Plank>
        <List operators={operators} sessions={sessions} />
      </Plank>
      <Plank tone="sunken">
        <div className={styles.pair}>
          <SignIns signIns={signIns} />
          <Audit />
        </div>
      </Plank>
    </>
  );
}

function Invite() {
  const invite = useMutation({
    mutationFn: (may: string) => own.post<{ link: string; minutes: number }>('links', { may }),
  });
  return (
    <>
      <div className={styles.acts}>
        <Button loading={invite.isPending} onClick={() => invite.mutate('view')}>
          Invite to view
        </Button>
        <Button variant="default" disabled={invite.isPending} onClick={() => invite.mutate('operate')}>
          Invite to operate
        </Button>
      </div>
      {invite.error && <Failed error={invite.error} />}
      {invite.data && (
        <p className={styles.link}>
          <Glyph sign="dispatched" /> Give this link to one person; it works once, for {invite.data.minutes} minutes:{' '}
          <code>{location.origin + invite.data.link}</code>
        </p>
      )}
    </>
  );
}

function List({ operators, sessions }: Pick<OperatorsView, 'operators' | 'sessions'>) {
  const { who, mayOperate } = useHere();
  const [removes, setRemoves] = useState<string | null>(null);
  const [ends, setEnds] = useState<string | null>(null);
  const of = (name: string) => sessions.filter((s) => s.operator === name);
  return (
    <>
      <table className={table.table}>
        <thead>
          <tr>
            <th>Name</th>
            <th>May</th>
            <th>Signed in</th>
            <th className={table.number}>Since</th>
            {mayOperate && (
              <th className={table.tight}>
                <span className="unseen">More</span>
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {operators.map((operator) => (
            <tr key={operator.name}>
              <th scope="row">
                {operator.name}
                {operator.name === who.operator && <small>you</small>}
              </th>
              <td>{operator.may}</td>
              <td>
                {of(operator.name).length === 0 && 'not now'}
                {of(operator.name).map((s) => (
                  <small key={s.since} title={s.agent}>
                    from {s.address}, {ago(s.since)}
                  </small>
                ))}
              </td>
              <td className={`${table.number} ${table.dim}`} title={operator.since}>
                {day(operator.since)}
              </td>
              {mayOperate && (
                <td className={table.tight}>
                  <Menu position="bottom-end" width={200}>
                    <Menu.Target>
                      <UnstyledButton className={styles.dots} aria-label={`More for ${operator.name}`}>
                        …
                      </UnstyledButton>
                    </Menu.Target>
                    <Menu.Dropdown>
                      <Menu.Item onClick={() => setEnds(operator.name)}>Sign out, asks first</Menu.Item>
                      <Menu.Divider />
                      <Menu.Item onClick={() => setRemoves(operator.name)}>Remove, asks first</Menu.Item>
                    </Menu.Dropdown>
                  </Menu>
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {ends !== null && (
        <Ask
          title={`Sign ${ends} out?`}
          verb={`Sign out ${ends}`}
          act={() => own.post('operators/end-sessions', { name: ends })}
          onClose={() => setEnds(null)}
        >
          {many(of(ends).length, 'session ends', 'sessions end')} at once. With the password {ends} comes back.
        </Ask>
      )}
      {removes !== null && (
        <Ask
          title={`Remove ${removes}?`}
          verb={`Remove ${removes}`}
          act={() => own.post('operators/remove', { name: removes })}
          onClose={() => setRemoves(null)}
        >
          Every session of {removes} at this console ends at once. Another sign-up needs another link.
        </Ask>
      )}
    </>
  );
}

function SignIns({ signIns }: { signIns: OperatorsView['signIns'] }) {
  return (
    <div>
      <Head title="Sign-ins" beside={`the newest ${signIns.length}`} />
      <ul>
        {signIns.map((s) => (
          <li key={`${s.time} ${s.operator}`} className={styles.line}>
            <Glyph sign={s.signedIn ? 'allowed' : 'denied'} label={s.signedIn ? 'signed in' : 'refused'} />
            <span>
              <b>{s.operator}</b> {s.signedIn ? '' : 'was refused '}from {s.address}
              <small>{s.agent}</small>
            </span>
            <time title={s.time}>{ago(s.time)}</time>
          </li>
        ))}
      </ul>
    </div>
  );
}

const words = (act: Act) =>
  `${act.act} ${act.about} ${act.actor} ${Object.entries(act.detail)
    .map(([name, value]) => `${name}: ${typeof value === 'string' ? value : JSON.stringify(value)}`)
    .join(' · ')}`;

function Audit() {
  const { space, mayOperate } = useHere();
  const [find, setFind] = useState('');
  const access = useQuery({
    queryKey: [space, 'access'],
    queryFn: () => own.get<AccessView>(`access?space=${encodeURIComponent(space)}`),
  });
  const acts = access.data?.acts ?? [];
  const found = acts.filter((a) => words(a).toLowerCase().includes(find.toLowerCase()));
  const all = useMutation({
    mutationFn: async () => {
      const lines: string[] = [];
      for (let after: number | undefined = 0; after !== undefined; ) {
        const page: { acts: Act[]; next?: number } = await api(space).get(`/v1/audit?after=${after}`);
        lines.push(...page.acts.map((a) => JSON.stringify(a)));
        after = page.next;
      }
      const link = document.createElement('a');
      link.href = URL.createObjectURL(new Blob([`${lines.join('\n')}\n`], { type: 'application/x-ndjson' }));
      link.download = `audit-${space}.ndjson`;
      link.click();
      URL.revokeObjectURL(link.href);
      return lines.length;
    },
  });
  return (
    <div>
      <Head
        title="Audit log"
        beside={`space ${space}, the newest ${acts.length}`}
        end={
          mayOperate && (
            <Button variant="default" size="xs" loading={all.isPending} onClick={() => all.mutate()}>
              Export all
            </Button>
          )
        }
      />
      <TextInput
        aria-label="Find in the audit log"
        placeholder="who, what, about whom"
        value={find}
        onChange={(e) => setFind(e.currentTarget.value)}
        mb="xs"
      />
      {access.error && <Failed error={access.error} />}
      {all.error && <Failed error={all.error} />}
      <p role="status" className={styles.quiet}>
        {all.isSuccess && `${many(all.data, 'line')} exported.`}
        {access.isSuccess &&
          found.length === 0 &&
          (acts.length === 0 ? 'Nothing was done yet.' : `Nothing with “${find}”.`)}
      </p>
      <ul>
        {found.map((act) => (
          <li key={act.number} className={styles.line}>
            <Glyph sign={act.act.endsWith('refused') ? 'denied' : 'stored'} />
            <span>
              <b>{act.act}</b> {act.about}
              <small>{words(act).slice(act.act.length + act.about.length + 2)}</small>
            </span>
            <time title={act.time}>{when(act.time)}</time>
          </li>
        ))}
      </ul>
    </div>
  );
}
