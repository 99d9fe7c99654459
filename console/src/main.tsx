import '@mantine/core/styles.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { StrictMode, useCallback, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Frame } from './Frame';
import { SignIn } from './SignIn';
import { type Me, me } from './view';

// The page's policy lets only styles in that bear the number of this answer.
const styleNonce = () => document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content ?? '';

const theme = createTheme({ primaryColor: 'teal', fontFamily: 'system-ui, sans-serif', defaultRadius: 'sm' });

function App() {
  const [who, setWho] = useState<Me | null>(null);
  const look = useCallback(() => void me().then(setWho), []);
  useEffect(look, [look]);
  if (who === null) return null;
  return who.operator === null ? (
    <SignIn anyOperator={who.anyOperator} onDone={look} />
  ) : (
    <Frame who={who} onSignedOut={look} />
  );
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto" getStyleNonce={styleNonce}>
      <App />
    </MantineProvider>
  </StrictMode>,
);
