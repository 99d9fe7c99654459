import { Button, Select, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { Link, useSearchParams } from 'wouter';
import { api, own } from '../../api/door';
import { many } from '../../api/times';
import type { AccessView, Explanation } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Chip, Head, Plank } from '../../look/Plank';
import { Asked, Empty } from '../../look/States';
import table from '../../look/Table.module.css';
import { All, One } from './All';
import styles from './Channels.module.css';
import { Grants } from './Grants';

const rights = ['subscribe', 'follow', 'say', 'presence'] as const;
type Right = (typeof rights)[number];

/** Who may be on which channel, and why; which policies say so; who was refused. */
export function Channels() {
  const [params, setParams] = useSearchParams();
  const [user, on] = [params.get('user') ?? '', params.get('on') ?? ''];
  const right = (rights.find((r) => r === params.get('right')) ?? 'subscribe') as Right;
  const channel = params.get('channel');
  return (
    <>
      <Plank tone="open">
        <h1 className="unseen">Channels</h1>
        <Question
          key={`${user} ${right} ${on}`}
          user={user}
          right={right}
          on={on}
          onAsk={(asked) => setParams(asked)}
        />
        {user && on && <Answer user={user} right={right} on={on} />}
      </Plank>
      {channel ? <One key={channel} address={channel} /> : <All />}
      <Grants />
      <Rules />
    </>
  );
}

interface RightAsked {
  user: string;
  right: Right;
  on: string;
}

function Question({
  user,
  right,
  on,
  onAsk,
}: RightAsked & { onAsk: (asked: { user: string; right: string; on: string }) => void }) {
  const [asked, setAsked] = useState({ user, right, on });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    // A topic may be written without its kind.
    const about = /^(user|role|topic):|^everyone$/.test(asked.on) ? asked.on : `topic:${asked.on}`;
    onAsk({ ...asked, on: about });
  };
  return (
    <form className={styles.ask} onSubmit={submit}>
      <span>May</span>
      <TextInput
        size="md"
        w={150}
        aria-label="User"
        placeholder="teo"
        required
        value={asked.user}
        onChange={(e) => setAsked({ ...asked, user: e.currentTarget.value })}
      />
      <Select
        size="md"
        w={150}
        aria-label="Right"
        data={rights}
        value={asked.right}
        onChange={(value) => setAsked({ ...asked, right: (value ?? 'subscribe') as Right })}
        allowDeselect={false}
      />
      <span>on</span>
      <TextInput
        size="md"
        w={210}
        aria-label="Channel"
        placeholder="topic:berth/3"
        required
        value={asked.on}
        onChange={(e) => setAsked({ ...asked, on: e.currentTarget.value })}
      />
      <span>?</span>
      <Button size="md" type="submit">
        Check
      </Button>
    </form>
  );
}

function Answer({ user, right, on }: RightAsked) {
  const { space } = useHere();
  const query = new URLSearchParams({ user, on });
  const explained = useQuery({
    queryKey: [space, 'explain', user, on],
    queryFn: () => api(space).get<Explanation>(`/v1/explain?${query}`),
  });
  return (
    <Asked query={explained} rows={3}>
      {(answer) =>
        answer.rights?.some((r) => r.right === right) ? (
          <Verdict explained={answer} asked={right} />
        ) : (
          <OnChannel explained={answer} />
        )
      }
    </Asked>
  );
}

const words = { allow: 'Allowed.', ask: 'A decider is asked.', deny: 'Denied.' } as const;
const signs: Record<string, Sign> = { allow: 'allowed', ask: 'dispatched', deny: 'denied' };

function Verdict({ explained, asked }: { explained: Explanation; asked: Right }) {
  const of = explained.rights?.find((r) => r.right === asked);
  if (!of) return null;
  const fixes = [...new Set([...of.steps, ...explained.steps].flatMap((s) => (s.fix ? [s.fix] : [])))];
  return (
    <>
      <div className={styles.answer}>
        <Glyph sign={signs[of.decision] ?? 'denied'} size={84} />
        <div>
          <p className={styles.verdict}>{words[of.decision]}</p>
          <p className={styles.because}>
            {explained.user} may {of.decision === 'deny' && 'not '}
            {asked === 'presence' ? 'see who is present' : asked} on {explained.on}: {of.by}. The user is{' '}
            {!explained.onChannel && 'not '}on its channel now.
          </p>
        </div>
        {of.decision === 'deny' && fixes.length > 0 && (
          <ul className={styles.remedies} aria-label="What would allow it">
            {fixes.map((fix) => (
              <li key={fix}>{fix}</li>
            ))}
          </ul>
        )}
      </div>
      <Matrix explained={explained} />
    </>
  );
}

/** What each policy and grant says to each right. */
function Matrix({ explained }: { explained: Explanation }) {
  const given = explained.rights ?? [];
  const rows = [...new Set(given.flatMap((r) => r.steps.map((s) => s.what)))];
  const cells: Record<string, Sign> = { allows: 'allowed', forbids: 'denied', asks: 'dispatched' };
  return (
    <div className={styles.scroll}>
      <table className={`${table.table} ${styles.matrix}`}>
        <thead>
          <tr>
            <th>Policy or grant</th>
            {given.map((r) => (
              <th key={r.right} className={styles.cell}>
                {r.right}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr className={styles.sum}>
            <th scope="row">Verdict</th>
            {given.map((r) => (
              <td key={r.right} className={styles.cell}>
                <Glyph sign={signs[r.decision] ?? 'denied'} size={24} />
                <small>{{ allow: 'allowed', ask: 'asks', deny: 'denied' }[r.decision]}</small>
              </td>
            ))}
          </tr>
          {rows.map((what) => {
            const why = given.flatMap((r) => r.steps.filter((s) => s.what === what))[0]?.why;
            return (
              <tr key={what}>
                <th scope="row">
                  {what}
                  {why && <small>{why}</small>}
                </th>
                {given.map((r) => {
                  const step = r.steps.find((s) => s.what === what);
                  const sign = step && cells[step.outcome];
                  return (
                    <td key={r.right} className={styles.cell} title={step?.why}>
                      {sign ? <Glyph sign={sign} /> : step && <Glyph sign="unmet" />}
                      <small>{step ? step.outcome : '–'}</small>
                    </td>
                  );
                })}
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

function OnChannel({ explained }: { explained: Explanation }) {
  return (
    <>
      <div className={styles.answer}>
        <Glyph sign={explained.onChannel ? 'allowed' : 'denied'} size={84} />
        <div>
          <p className={styles.verdict}>{explained.onChannel ? 'Yes.' : 'No.'}</p>
          <p className={styles.because}>
            {explained.user} is {!explained.onChannel && 'not '}on the channel of {explained.on}.
          </p>
        </div>
      </div>
      <Steps explained={explained} />
    </>
  );
}

function Steps({ explained }: { explained: Explanation }) {
  const of: Record<string, Sign> = { allows: 'allowed', forbids: 'denied' };
  return (
    <ul className={styles.steps}>
      {explained.steps.map((step) => (
        <li key={step.what + step.why}>
          <Glyph sign={of[step.outcome] ?? 'unmet'} />
          <b>{step.what}</b>
          <span>
            {step.why}
            {step.fix && <small>{step.fix}</small>}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** The policies as they stand, deciders, and origins that were refused. */
function Rules() {
  const { space } = useHere();
  const access = useQuery({
    queryKey: [space, 'access'],
    queryFn: () => own.get<AccessView>(`access?space=${encodeURIComponent(space)}`),
    refetchInterval: 5000,
  });
  return <Asked query={access}>{(view) => <Standing {...view} />}</Asked>;
}

function Standing({ policies, policyVersion, deciders, refusedOrigins }: AccessView) {
  return (
    <>
      <Plank>
        <Head
          title={many(policies.length, 'policy', 'policies')}
          beside={policyVersion > 0 ? `version ${policyVersion}` : 'none was loaded'}
        />
        {policies.length === 0 && (
          <Empty title="Nobody may take a topic without a grant">
            Load policies: <code>rovett policies load policies.yaml</code>
          </Empty>
        )}
        <ul>
          {policies.map((policy) => (
            <li key={policy.name} className={styles.policy}>
              <Glyph sign={policy.never ? 'denied' : policy.ask ? 'dispatched' : 'allowed'} />
              <b>{policy.name}</b>
              <span className={styles.chips}>
                <Chip of="on">{policy.topic}</Chip>
                <Chip of={policy.never ? 'never' : 'may'}>{(policy.never ?? policy.may ?? []).join(', ')}</Chip>
                {conditionsOf(policy.when).map((c) => (
                  <Chip key={c} of="when">
                    {c}
                  </Chip>
                ))}
                {policy.ask && <Chip of="asks">{policy.ask}</Chip>}
              </span>
            </li>
          ))}
        </ul>
        {deciders.map((decider) => (
          <p key={decider.name} className={styles.policy}>
            <Glyph sign={decider.resting ? 'denied' : 'live'} />
            <b>decider {decider.name}</b>
            <span>
              asked {many(decider.asked, 'time')}, {decider.failed} without an answer
              {decider.resting && '; it is left alone for a while'}
              {decider.lastError && `; last: ${decider.lastError}`}
            </span>
          </p>
        ))}
      </Plank>
      {refusedOrigins.length > 0 && (
        <Plank tone="sunken">
          <p>
            <Glyph sign="denied" /> Pages of {many(refusedOrigins.length, 'origin')} were refused.{' '}
            <Link href="/setup/origins">See them, and allow those that are yours</Link>
          </p>
        </Plank>
      )}
    </>
  );
}

/** Conditions as people say them: "role is engineer, deckhand". */
function conditionsOf(when: Record<string, unknown>): string[] {
  return Object.entries(when).map(([name, value]) => {
    if (value === true) return name;
    if (Array.isArray(value))
      return `${name} is ${value.map((v) => (typeof v === 'object' ? JSON.stringify(v) : v)).join(' or ')}`;
    if (value && typeof value === 'object') {
      return conditionsOf(value as Record<string, unknown>)
        .map((c) => `${name} ${c}`)
        .join(' and ');
    }
    return `${name} is ${String(value)}`;
  });
}
