import { Button, CopyButton } from '@mantine/core';
import { useQueryClient } from '@tanstack/react-query';
import { type FormEvent, type ReactNode, useState } from 'react';
import { useHere } from '../../frame/facts';
import { Ask, type AskProps } from '../../look/Ask';
import { Glyph, type Sign } from '../../look/Glyph';
import { Failed } from '../../look/States';
import styles from './Setup.module.css';

export function Copy({ text, what }: { text: string; what: string }) {
  return (
    <CopyButton value={text}>
      {({ copied, copy }) => (
        <Button variant="default" size="xs" onClick={copy}>
          {copied ? 'Copied' : what}
        </Button>
      )}
    </CopyButton>
  );
}

/** A secret that is shown this once. */
export function Once({ what, secret, onDone }: { what: string; secret: string; onDone: () => void }) {
  return (
    <div className={styles.once} role="status">
      <Glyph sign="watch" size={20} />
      <div>
        <b>{what}. It is shown this once.</b>
        <code data-secret>{secret}</code>
      </div>
      <Copy text={secret} what="Copy" />
      <Button variant="subtle" size="xs" onClick={onDone}>
        I have it
      </Button>
    </div>
  );
}

/** Fields in a row with the button that carries them out, and why that failed. */
export function Fields({
  verb,
  doing,
  disabled,
  children,
}: {
  verb: string;
  doing: { mutate: () => void; isPending: boolean; error: Error | null };
  disabled?: boolean;
  children: ReactNode;
}) {
  const submit = (event: FormEvent) => {
    event.preventDefault();
    doing.mutate();
  };
  return (
    <>
      <form className={styles.form} onSubmit={submit}>
        {children}
        <Button type="submit" loading={doing.isPending} disabled={disabled}>
          {verb}
        </Button>
      </form>
      {doing.error && <Failed error={doing.error} />}
    </>
  );
}

type Removal = Pick<AskProps, 'title' | 'verb' | 'typed' | 'act' | 'children'>;

/** A button that asks before it takes something away. */
export function Taking({ name, ...asked }: Removal & { name: string }) {
  const [asks, setAsks] = useState(false);
  return (
    <>
      <Button variant="subtle" size="xs" onClick={() => setAsks(true)}>
        {name}
      </Button>
      {asks && <Ask {...asked} onClose={() => setAsks(false)} />}
    </>
  );
}

/** One of a list: its name, what there is to say, and what can be done. */
export function Row({
  name,
  sign,
  says,
  children,
}: {
  name: ReactNode;
  sign?: Sign;
  says?: ReactNode;
  children?: ReactNode;
}) {
  return (
    <li className={styles.row}>
      {sign && <Glyph sign={sign} />}
      {name}
      <span>{says}</span>
      {children}
    </li>
  );
}

/** Asks anew for all that is shown of the space. */
export function useAnew(): () => Promise<void> {
  const { space } = useHere();
  const queries = useQueryClient();
  return () => queries.invalidateQueries({ queryKey: [space] });
}
