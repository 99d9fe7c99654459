import type { CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import { Button, Modal } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useMemo, useState } from 'react';
import { api, type Problem, Refused } from '../../api/door';
import { ago, many, when } from '../../api/times';
import type { Rule, RulesInForce, RulesLoaded, Unmatched } from '../../api/types';
import { useHere } from '../../frame/facts';
import Editor, { type Mistake } from '../../look/Editor';
import { Glyph } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import { Asked, Empty, Failed } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Rules.module.css';
import { helpAt, keysAt, pathTo, type Schema, valuesAt } from './schema';
import { Try } from './Try';

const yaml = { 'Content-Type': 'application/yaml' };

const start = `rules:
  - name: Engine check due
    event: engine.check.due
    to: ["role:engineer"]
    notification:
      title: "{{ data.vessel }}: {{ data.check }} check due"
`;

/** Which notifications are made of events: as it stands, as it would be, and what an event would become. */
export function Rules() {
  const { space } = useHere();
  const rules = useQuery({
    queryKey: [space, 'rules'],
    queryFn: () => api(space).get<RulesInForce>('/v1/rules'),
    refetchInterval: 5000,
  });
  return <Asked query={rules}>{(inForce) => <Shown key={space} inForce={inForce} />}</Asked>;
}

function Shown({ inForce }: { inForce: RulesInForce }) {
  const { space, mayOperate } = useHere();
  const queries = useQueryClient();
  const standing = inForce.document ?? start;
  const [edited, setEdited] = useState<{ from: number; text: string } | null>(null);
  const text = edited?.text ?? standing;
  const isChanged = text !== standing || inForce.version === 0;
  const [loading, setLoading] = useState(false);
  const [goTo, setGoTo] = useState<{ line: number } | null>(null);
  const [line, setLine] = useState(0);
  const lines = useMemo(() => text.split('\n'), [text]);
  const schema = useQuery({
    queryKey: ['rules-schema'],
    queryFn: () => api(space).get<Schema>('/v1/rules/schema'),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const [settled] = useDebouncedValue(text, 400);
  const checked = useQuery({
    queryKey: [space, 'rules-check', settled],
    queryFn: () => api(space).send<RulesLoaded>('PUT', '/v1/rules?dryRun=true', settled, yaml),
    enabled: mayOperate,
    retry: false,
    gcTime: 10_000,
  });
  const mistakes = useMemo(() => mistakesOf(checked.error), [checked.error]);
  const help = schema.data ? helpAt(schema.data, lines, line) : null;
  const complete = useCallback((context: CompletionContext) => completion(context, schema.data), [schema.data]);
  const load = useMutation({
    mutationFn: () =>
      api(space).send<RulesLoaded>('PUT', '/v1/rules', text, {
        ...yaml,
        ...(edited && edited.from > 0 && { 'If-Match': `"${edited.from}"` }),
      }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: [space] });
      setEdited(null);
      setLoading(false);
    },
  });
  const go = (name: string) => {
    const at = lines.findIndex((l) => l.includes('name:') && l.includes(name));
    if (at >= 0) setGoTo({ line: at });
  };

  return (
    <>
      <Plank tone="open">
        <div className={styles.top}>
          <div>
            <h1>{inForce.version === 0 ? 'No rules yet' : many(inForce.rules.length, 'rule')}</h1>
            <p className={styles.lead}>
              {inForce.version === 0
                ? 'Events are taken, and nothing is made of them.'
                : `Version ${inForce.version}, loaded ${inForce.loaded ? when(inForce.loaded) : ''}. Counted since the service started.`}
            </p>
          </div>
          {mayOperate && (
            <Button disabled={!isChanged || mistakes.length > 0 || !checked.data} onClick={() => setLoading(true)}>
              Load as a new version
            </Button>
          )}
        </div>
      </Plank>
      <Plank>
        <div className={styles.pair}>
          <div>
            <Head title="What they made" />
            <List rules={inForce.rules} onChoose={go} />
            <UnmatchedTypes unmatched={inForce.unmatched} />
          </div>
          <div>
            <Head
              title="Rules as a file"
              beside={edited ? 'edited, not loaded' : 'as loaded'}
              end={
                edited && (
                  <Button variant="subtle" size="xs" onClick={() => setEdited(null)}>
                    Take back
                  </Button>
                )
              }
            />
            <div className={styles.editor}>
              <Editor
                label="Rules"
                language="yaml"
                value={text}
                onChange={
                  mayOperate ? (next) => setEdited({ from: edited?.from ?? inForce.version, text: next }) : undefined
                }
                onLine={setLine}
                mistakes={mistakes}
                complete={complete}
                goTo={goTo}
              />
            </div>
            <p className={styles.help} aria-live="polite">
              {help ? (
                <>
                  <code>{help.key}</code> {help.says}
                </>
              ) : (
                'Ctrl Space offers what may stand at the cursor.'
              )}
            </p>
            <Check problem={problemOf(checked.error)} mistakes={mistakes} loaded={checked.data} onGo={setGoTo} />
          </div>
        </div>
      </Plank>
      <Plank tone="sunken">
        <Try document={isChanged ? text : undefined} />
      </Plank>
      {loading && (
        <Modal opened onClose={() => setLoading(false)} title={`Load as version after ${inForce.version}?`} size="xl">
          <p className={styles.quiet}>What changes, against the version in effect:</p>
          <div className={styles.difference}>
            <Editor label="What changes" language="yaml" value={text} before={inForce.document ?? ''} />
          </div>
          {load.error && <Failed error={load.error} />}
          <div className={styles.buttons}>
            <Button variant="default" onClick={() => setLoading(false)}>
              Keep editing
            </Button>
            <Button loading={load.isPending} onClick={() => load.mutate()}>
              Load {many(checked.data?.rules ?? 0, 'rule')}
            </Button>
          </div>
        </Modal>
      )}
    </>
  );
}

const problemOf = (error: Error | null): Problem | null => (error instanceof Refused ? error.problem : null);

/** What is wrong, with the places that the details begin with. */
function mistakesOf(error: Error | null): Mistake[] {
  return (problemOf(error)?.errors ?? []).map(({ field, detail }) => {
    const place = /^line (\d+), column (\d+): /.exec(detail);
    return {
      line: Number(place?.[1] ?? 1),
      column: Number(place?.[2] ?? 1),
      text: `${field === '(file)' ? '' : `${field} `}${detail.slice(place?.[0].length ?? 0)}`,
    };
  });
}

function completion(context: CompletionContext, schema: Schema | undefined): CompletionResult | null {
  if (!schema) return null;
  const at = context.state.doc.lineAt(context.pos);
  const before = at.text.slice(0, context.pos - at.from);
  const lines = context.state.doc.toString().split('\n');
  const key = /^(?:\s|- )*(\w*)$/.exec(before);
  if (key) {
    if (!context.explicit && !key[1]) return null;
    const options = keysAt(schema, pathTo(lines, at.number - 1));
    return {
      from: context.pos - (key[1] as string).length,
      options: options.map(({ name, says }) => ({ label: name, apply: `${name}: `, info: says })),
    };
  }
  const value = /:\s+(\w*)$/.exec(before);
  if (!value) return null;
  const options = valuesAt(schema, lines, at.number - 1);
  return options.length === 0
    ? null
    : { from: context.pos - (value[1] as string).length, options: options.map((label) => ({ label })) };
}

function Check({
  problem,
  mistakes,
  loaded,
  onGo,
}: {
  problem: Problem | null;
  mistakes: Mistake[];
  loaded: RulesLoaded | undefined;
  onGo: (place: { line: number }) => void;
}) {
  if (problem && mistakes.length === 0) return <Failed error={new Refused(problem)} />;
  if (mistakes.length > 0) {
    return (
      <ul className={styles.mistakes} aria-label="Mistakes">
        {mistakes.map((m) => (
          <li key={`${m.line} ${m.column} ${m.text}`}>
            <Glyph sign="denied" />
            <button type="button" onClick={() => onGo({ line: m.line - 1 })}>
              line {m.line}
            </button>
            <span>{m.text}</span>
          </li>
        ))}
      </ul>
    );
  }
  if (!loaded) return null;
  return (
    <ul className={styles.mistakes} aria-label="Checked">
      <li>
        <Glyph sign="allowed" />
        <span>
          {many(loaded.rules, 'rule')} without a mistake, {many(loaded.tests, 'test')}.
        </span>
      </li>
      {loaded.warnings.map((warning) => (
        <li key={warning}>
          <Glyph sign="watch" />
          <span>{warning}</span>
        </li>
      ))}
    </ul>
  );
}

function List({ rules, onChoose }: { rules: Rule[]; onChoose: (name: string) => void }) {
  if (rules.length === 0) {
    return (
      <Empty title="Rules make notifications of events">
        Write the first one in the editor: a name, the type of event, whom to tell, and a title.
      </Empty>
    );
  }
  return (
    <table className={table.table}>
      <thead>
        <tr>
          <th>Rule</th>
          <th className={table.number}>Matched</th>
          <th className={styles.last}>Last</th>
        </tr>
      </thead>
      <tbody>
        {rules.map((rule) => (
          <tr key={rule.name}>
            <th scope="row">
              <button type="button" className={styles.name} onClick={() => onChoose(rule.name)}>
                {rule.name}
              </button>
              <small>
                {rule.events.join(', ')} to {rule.to.join(', ')}
              </small>
              {rule.lastReason && rule.lastFailed && (
                <small className={styles.failed}>
                  failed {ago(rule.lastFailed)}: {rule.lastReason}
                </small>
              )}
            </th>
            <td className={table.number}>{rule.matched.toLocaleString('en-GB')}</td>
            <td className={styles.last}>
              {rule.lastFailed ? <Glyph sign="aside" label="failed" /> : null}
              {rule.lastMatched ? ago(rule.lastMatched) : 'never'}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function UnmatchedTypes({ unmatched }: { unmatched: Unmatched[] }) {
  if (unmatched.length === 0) return null;
  return (
    <>
      <h3 className={styles.sub}>Types that no rule is for</h3>
      <ul>
        {unmatched.map((u) => (
          <li key={u.type} className={styles.unmatched}>
            <code>{u.type}</code> {many(u.count, 'event')}
            {u.nearest && (
              <>
                , the nearest with a rule is <code>{u.nearest}</code>
              </>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}
