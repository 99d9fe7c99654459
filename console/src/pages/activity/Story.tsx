import { Button, Menu, UnstyledButton } from '@mantine/core';
import { useClipboard } from '@mantine/hooks';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import { clock, length, many } from '../../api/times';
import type { Shown } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Ask } from '../../look/Ask';
import { Glyph } from '../../look/Glyph';
import { Chip } from '../../look/Plank';
import { Asked } from '../../look/States';
import { Lanes } from './Lanes';
import styles from './Story.module.css';
import { type Tale, taleOf, textOf } from './tale';

/** What became of one notification: the outcome, the picture, the same in words. */
export function Story({ id }: { id: string }) {
  const { space } = useHere();
  const story = useQuery({
    queryKey: [space, 'story', id],
    queryFn: () => api(space).get<Shown>(`/v1/notifications/${encodeURIComponent(id)}`),
    refetchInterval: 2000,
  });
  return <Asked query={story}>{(shown) => <Told shown={shown} />}</Asked>;
}

function Told({ shown }: { shown: Shown }) {
  const tale = taleOf(shown);
  const isOver = shown.timeline.some((t) => ['withdrawn', 'replaced', 'expired'].includes(t.state));
  return (
    <>
      <div className={styles.head}>
        <h1 className={styles.title}>{shown.title}</h1>
        <Acts shown={shown} tale={tale} isOver={isOver} />
      </div>
      <div className={styles.chips}>
        {shown.to.map((to) => (
          <Chip key={to} of={`${to.split(':')[0]}:`}>
            {to.split(':').slice(1).join(':') || 'all'}
          </Chip>
        ))}
        {shown.subject && <Chip>{shown.subject}</Chip>}
        {shown.urgency && shown.urgency !== 'normal' && <Chip of="urgency">{shown.urgency}</Chip>}
        <Chip of="type">{shown.type}</Chip>
        <span className={styles.id}>
          position {shown.position.toLocaleString('en-GB')} · <code>{shown.id}</code>
        </span>
      </div>
      {shown.body && <p className={styles.body}>{shown.body}</p>}
      <p className={styles.outcome}>
        <Glyph sign={tale.outcome.sign} size={18} /> <b>{tale.outcome.verdict}</b> {tale.outcome.more}
      </p>
      {shown.receiptsKept !== 'full' && (
        <p className={styles.note}>
          {shown.receiptsKept === 'none'
            ? 'No receipts are kept of this type.'
            : 'Only totals are kept of this type. For each person’s times, set receipts: full in the catalogue of types.'}
        </p>
      )}
      {tale.lanes.length + tale.deadlines.length > 0 && <Lanes tale={tale} />}
      {tale.others > 0 && <p className={styles.note}>{many(tale.others, 'other', 'others')} came before these.</p>}
      <h2 className={styles.words}>In words</h2>
      <ol className={styles.steps}>
        {tale.steps.map((step) => (
          <li key={`${step.at} ${step.text}`}>
            <time title={new Date(Date.parse(tale.began) + step.at).toISOString()}>
              {step === tale.steps[0] ? clock(tale.began) : `+ ${length(step.at)}`}
            </time>
            <span className={step.sign === 'dispatched' || step.sign === 'stored' ? styles.early : styles.late}>
              <Glyph sign={step.sign} />
            </span>
            <p>{step.text}</p>
          </li>
        ))}
      </ol>
      {tale.deadlines.map((d) => (
        <p key={d.text} className={styles.note}>
          <Glyph sign={d.sign} /> Deadline {d.text}
          {d.otherwise.length > 0 && `; otherwise ${d.otherwise.join(', ')}`}
        </p>
      ))}
    </>
  );
}

function Acts({ shown, tale, isOver }: { shown: Shown; tale: Tale; isOver: boolean }) {
  const { space, mayOperate } = useHere();
  const clipboard = useClipboard();
  const [asks, setAsks] = useState(false);
  return (
    <span className={styles.acts}>
      <Button variant="default" size="sm" onClick={() => clipboard.copy(textOf(shown, tale))}>
        {clipboard.copied ? 'Copied' : 'Copy'}
      </Button>
      {mayOperate && !isOver && (
        <Menu position="bottom-end" width={220}>
          <Menu.Target>
            <UnstyledButton className={styles.dots} aria-label="More for this notification">
              …
            </UnstyledButton>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={() => setAsks(true)}>Withdraw, asks first</Menu.Item>
          </Menu.Dropdown>
        </Menu>
      )}
      {asks && (
        <Ask
          title="Withdraw this notification?"
          verb="Withdraw notification"
          act={() => api(space).send('DELETE', `/v1/notifications/${shown.id}`)}
          onClose={() => setAsks(false)}
        >
          {many(shown.people.received, 'person has', 'people have')} received it and{' '}
          {many(shown.people.read, 'has', 'have')} read it. It leaves every list and count, and who has it open is told.
          This cannot be undone.
        </Ask>
      )}
    </span>
  );
}
