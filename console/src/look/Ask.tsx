import { Button, Modal, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { useHere } from '../frame/facts';
import styles from './Ask.module.css';
import { Failed } from './States';

export interface AskProps {
  title: string;
  /** What it does, in numbers. */
  children: ReactNode;
  /** Verb and object: "Erase teo". */
  verb: string;
  /** To be typed first, for what cannot be undone. */
  typed?: string;
  act: () => Promise<unknown>;
  onClose: () => void;
}

/** Asks before something that takes away. */
export function Ask({ title, children, verb, typed, act, onClose }: AskProps) {
  const { space } = useHere();
  const queries = useQueryClient();
  const [given, setGiven] = useState('');
  const doing = useMutation({
    mutationFn: act,
    onSuccess: () => {
      onClose();
      return queries.invalidateQueries({ queryKey: [space] });
    },
  });
  return (
    <Modal opened onClose={onClose} title={title}>
      <div className={styles.says}>{children}</div>
      {typed !== undefined && (
        <TextInput
          mt="sm"
          label={`Type ${typed} to go on`}
          value={given}
          onChange={(e) => setGiven(e.currentTarget.value)}
          autoComplete="off"
        />
      )}
      {doing.error && <Failed error={doing.error} />}
      <div className={styles.buttons}>
        <Button variant="default" onClick={onClose} data-autofocus>
          Keep
        </Button>
        <Button
          data-grave
          loading={doing.isPending}
          disabled={typed !== undefined && given !== typed}
          onClick={() => doing.mutate()}
        >
          {verb}
        </Button>
      </div>
    </Modal>
  );
}
