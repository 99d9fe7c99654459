import '@fontsource-variable/commissioner/full.css';
import '@fontsource-variable/source-code-pro';
import '@mantine/core/styles.css';
import '@mantine/spotlight/styles.css';
import './theme/tokens.css';
import './theme/base.css';
import { MantineProvider } from '@mantine/core';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { setNonce } from 'get-nonce';
import { StrictMode, useCallback, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Router } from 'wouter';
import { own, Refused } from './api/door';
import type { Me } from './api/types';
import { Frame } from './frame/Frame';
import { SignIn } from './SignIn';
import { resolver, theme } from './theme/theme';

// The page's policy lets only styles in that bear the number of this answer.
const styleNonce = () => document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content ?? '';

setNonce(styleNonce()); // for what dialogs do to the page behind them

function App() {
  const [who, setWho] = useState<Me | null>(null);
  const look = useCallback(() => void own.get<Me>('me').then(setWho, () => setTimeout(look, 2000)), []);
  useEffect(look, [look]);
  const [queries] = useState(
    () =>
      new QueryClient({
        queryCache: new QueryCache({ onError: (error) => error instanceof Refused && error.isSignedOut && look() }),
        defaultOptions: {
          queries: { retry: (failures, error) => failures < 2 && !(error instanceof Refused && error.problem.status) },
        },
      }),
  );
  if (who === null) return null;
  return (
    <QueryClientProvider client={queries}>
      {who.operator === null ? (
        <SignIn anyOperator={who.anyOperator} onDone={look} />
      ) : (
        <Frame who={who} onChanged={look} />
      )}
    </QueryClientProvider>
  );
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} cssVariablesResolver={resolver} defaultColorScheme="auto" getStyleNonce={styleNonce}>
      <Router base="/console">
        <App />
      </Router>
    </MantineProvider>
  </StrictMode>,
);
