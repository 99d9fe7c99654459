import { useQueryClient } from '@tanstack/react-query';
import { lazy, type ReactNode, Suspense, useEffect, useState } from 'react';
import { Route, Switch } from 'wouter';
import { own } from '../api/door';
import type { Me } from '../api/types';
import { Loading } from '../look/States';
import { Activity } from '../pages/activity/Activity';
import { Channels } from '../pages/channels/Channels';
import { Intakes } from '../pages/intakes/Intakes';
import { Now } from '../pages/now/Now';
import { Operators } from '../pages/operators/Operators';
import { People } from '../pages/people/People';
import { SetAside } from '../pages/set-aside/SetAside';
import { Setup } from '../pages/setup/Setup';
import { Find, openFind } from './Find';
import styles from './Frame.module.css';
import { HereContext } from './facts';
import { Foot, Strake } from './Strake';

const Rules = lazy(() => import('../pages/rules/Rules').then((m) => ({ default: m.Rules })));
const Side = lazy(() => import('../pages/side/Side').then((m) => ({ default: m.Side })));

const kept = 'rovett-console-space';

/** What every page has around it: the strake, Find, and which space is shown. */
export function Frame({ who, onChanged }: { who: Me; onChanged: () => void }) {
  const queries = useQueryClient();
  const [wanted, setSpace] = useState(() => localStorage.getItem(kept));
  const space = wanted && who.spaces.includes(wanted) ? wanted : (who.spaces[0] ?? 'main');
  const here = {
    who,
    space,
    mayOperate: who.may === 'operate',
    showSpace: (next: string) => {
      localStorage.setItem(kept, next);
      setSpace(next);
    },
    spacesChanged: onChanged,
    signOut: async () => {
      await own.post('sign-out').catch(() => undefined); // it may have ended by itself
      queries.clear();
      onChanged();
    },
  };
  return (
    <HereContext.Provider value={here}>
      <a className={styles.skip} href="#page">
        To the page
      </a>
      <Strake onFind={openFind} />
      <main id="page" className={styles.main} key={space}>
        <Switch>
          <Route path="/">
            <Titled title="Now">
              <Now />
            </Titled>
          </Route>
          <Route path="/activity/:id?">
            {({ id }) => (
              <Titled title="Activity">
                <Activity id={id} />
              </Titled>
            )}
          </Route>
          <Route path="/people/:id?">
            {({ id }) => (
              <Titled title="People">
                <People id={id && decodeURIComponent(id)} />
              </Titled>
            )}
          </Route>
          <Route path="/channels">
            <Titled title="Channels">
              <Channels />
            </Titled>
          </Route>
          <Route path="/side">
            <Titled title="Side by side">
              <Suspense fallback={<Loading />}>
                <Side />
              </Suspense>
            </Titled>
          </Route>
          <Route path="/rules">
            <Titled title="Rules">
              <Suspense fallback={<Loading />}>
                <Rules />
              </Suspense>
            </Titled>
          </Route>
          <Route path="/intakes">
            <Titled title="Intakes">
              <Intakes />
            </Titled>
          </Route>
          <Route path="/setup/:part?">
            {({ part }) => (
              <Titled title="Set up">
                <Setup part={part} />
              </Titled>
            )}
          </Route>
          <Route path="/set-aside/:number?">
            {({ number }) => (
              <Titled title="Set aside">
                <SetAside number={number} />
              </Titled>
            )}
          </Route>
          <Route path="/operators">
            <Titled title="Operators">
              <Operators />
            </Titled>
          </Route>
          <Route>
            <Titled title="No such page">
              <h1>No such page</h1>
              <p>Choose one above, or find what you look for by Ctrl K.</p>
            </Titled>
          </Route>
        </Switch>
      </main>
      <Foot />
      <Find />
    </HereContext.Provider>
  );
}

function Titled({ title, children }: { title: string; children: ReactNode }) {
  useEffect(() => {
    document.title = `${title} · Rovett`;
  }, [title]);
  return children;
}
