import { Menu, UnstyledButton, useMantineColorScheme } from '@mantine/core';
import { Link, useLocation } from 'wouter';
import { Glyph } from '../look/Glyph';
import { Mark } from '../look/Mark';
import { useFacts, useHere } from './facts';
import { type Entry, entries } from './nav';
import styles from './Strake.module.css';

const isAt = (path: string, at: string) => (path === '/' ? at === '/' : at === path || at.startsWith(`${path}/`));

/** The name plate, the pages with a fact each, Find, and who is signed in. */
export function Strake({ onFind }: { onFind: () => void }) {
  return (
    <header className={styles.strake} data-on-hull>
      <Plate />
      <nav className={styles.pages} aria-label="Pages">
        {entries.map((entry) => (
          <PageLink key={entry.path} entry={entry} />
        ))}
      </nav>
      <div className={styles.tools}>
        <UnstyledButton className={styles.find} onClick={onFind} aria-keyshortcuts="Control+K /">
          <svg viewBox="0 0 16 16" width="16" height="16" aria-hidden="true">
            <circle cx="7" cy="7" r="4.6" fill="none" stroke="currentColor" strokeWidth="1.7" />
            <path d="m10.5 10.5 4 4" stroke="currentColor" strokeWidth="1.7" />
          </svg>
          <span>Find</span>
          <kbd>Ctrl K</kbd>
        </UnstyledButton>
        <Who />
      </div>
    </header>
  );
}

/** On a phone: four pages and the rest. */
export function Foot() {
  return (
    <nav className={styles.foot} aria-label="Pages" data-on-hull>
      {entries.slice(0, 4).map((entry) => (
        <PageLink key={entry.path} entry={entry} />
      ))}
      <More />
    </nav>
  );
}

function PageLink({ entry }: { entry: Entry }) {
  const [at] = useLocation();
  const { data } = useFacts();
  const fact = data && entry.fact(data);
  return (
    <Link href={entry.path} aria-current={isAt(entry.path, at) ? 'page' : undefined} className={styles.page}>
      <b>{entry.name}</b>
      <span>
        {fact?.sign && <Glyph sign={fact.sign} size={12} />}
        {fact?.text ?? '\u00a0'}
      </span>
    </Link>
  );
}

function More() {
  const [at, go] = useLocation();
  const { data } = useFacts();
  const rest = entries.slice(4);
  const urgent = data && rest.map((e) => e.fact(data)).find((f) => f.sign);
  return (
    <Menu position="top-end" width={220}>
      <Menu.Target>
        <UnstyledButton className={styles.page} data-current={rest.some((e) => isAt(e.path, at)) || undefined}>
          <b>More</b>
          <span>
            {urgent?.sign && <Glyph sign={urgent.sign} size={12} />}
            {urgent?.text ?? `${rest.length} pages`}
          </span>
        </UnstyledButton>
      </Menu.Target>
      <Menu.Dropdown>
        {rest.map((entry) => (
          <Menu.Item key={entry.path} onClick={() => go(entry.path)}>
            {entry.name}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}

function Plate() {
  const { who, space, showSpace } = useHere();
  const name = (
    <>
      <Mark size={34} />
      <span>
        <b>Rovett</b>
        <small>space {space}</small>
      </span>
    </>
  );
  if (who.spaces.length < 2) return <div className={styles.plate}>{name}</div>;
  return (
    <Menu position="bottom-start" width={220}>
      <Menu.Target>
        <UnstyledButton className={styles.plate}>{name}</UnstyledButton>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>Space</Menu.Label>
        {who.spaces.map((other) => (
          <Menu.Item key={other} onClick={() => showSpace(other)} aria-current={other === space || undefined}>
            {other}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}

function Who() {
  const { who, mayOperate, signOut } = useHere();
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const name = who.operator ?? '';
  return (
    <Menu position="bottom-end" width={240}>
      <Menu.Target>
        <UnstyledButton className={styles.who} aria-label={`${name.slice(0, 2).toUpperCase()}: signed in as ${name}`}>
          {name.slice(0, 2).toUpperCase()}
        </UnstyledButton>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>
          {name} {mayOperate ? 'may operate' : 'may view'}
        </Menu.Label>
        {(['auto', 'light', 'dark'] as const).map((scheme) => (
          <Menu.Item
            key={scheme}
            onClick={() => setColorScheme(scheme)}
            rightSection={colorScheme === scheme ? <Glyph sign="allowed" label="chosen" /> : null}
          >
            {{ auto: 'Light or dark as the system', light: 'Light', dark: 'Dark' }[scheme]}
          </Menu.Item>
        ))}
        <Menu.Divider />
        <Menu.Item component="a" href="/reference">
          API reference
        </Menu.Item>
        <Menu.Item onClick={signOut}>Sign out</Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}
