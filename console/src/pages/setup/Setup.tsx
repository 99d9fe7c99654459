import { Link } from 'wouter';
import { useFacts, useHere } from '../../frame/facts';
import { Plank } from '../../look/Plank';
import { FirstSteps, steps } from './FirstSteps';
import { Hooks } from './Hooks';
import { Keys } from './Keys';
import { Limits } from './Limits';
import { Origins } from './Origins';
import styles from './Setup.module.css';
import { SigningKeys } from './SigningKeys';
import { Spaces } from './Spaces';

const parts = [
  { value: 'steps', label: 'First steps' },
  { value: 'keys', label: 'Keys' },
  { value: 'signing', label: 'Signing keys' },
  { value: 'origins', label: 'Origins' },
  { value: 'limits', label: 'Limits' },
  { value: 'hooks', label: 'Webhooks and deciders' },
  { value: 'spaces', label: 'Spaces' },
] as const;
type Part = (typeof parts)[number]['value'];

/** What a space needs to work: credentials, settings, and code to copy. */
export function Setup({ part }: { part?: string }) {
  const { mayOperate } = useHere();
  const shown: Part = parts.find((p) => p.value === part)?.value ?? 'steps';
  const facts = useFacts().data;
  const done = facts?.steps.length ?? 0;
  return (
    <>
      <Plank tone="open">
        <h1 className={styles.title}>
          {done === steps.length ? 'All set up.' : `${done} of ${steps.length} first steps are taken.`}
        </h1>
        <nav aria-label="Parts of this page" className={styles.parts}>
          {parts.map((p) => (
            <Link
              key={p.value}
              href={p.value === 'steps' ? '/setup' : `/setup/${p.value}`}
              aria-current={p.value === shown ? 'page' : undefined}
            >
              {p.label}
            </Link>
          ))}
        </nav>
      </Plank>
      {shown === 'steps' && <FirstSteps done={facts?.steps ?? []} />}
      {shown !== 'steps' && !mayOperate && (
        <Plank>
          <p>Keys and settings are shown to operators who may operate.</p>
        </Plank>
      )}
      {mayOperate && shown === 'keys' && <Keys />}
      {mayOperate && shown === 'signing' && <SigningKeys />}
      {mayOperate && shown === 'origins' && <Origins />}
      {mayOperate && shown === 'limits' && <Limits />}
      {mayOperate && shown === 'hooks' && <Hooks />}
      {mayOperate && shown === 'spaces' && <Spaces />}
    </>
  );
}
