import '@mantine/core/styles.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { StrictMode, useCallback, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Flow } from './Flow';
import { SignIn } from './SignIn';
import { type Me, me } from './view';

const theme = createTheme({ primaryColor: 'teal', fontFamily: 'system-ui, sans-serif', defaultRadius: 'sm' });

function App() {
  const [who, setWho] = useState<Me | null>(null);
  const look = useCallback(() => void me().then(setWho), []);
  useEffect(look, [look]);
  if (who === null) return null;
  return who.operator === null ? (
    <SignIn anyOperator={who.anyOperator} onDone={look} />
  ) : (
    <Flow who={who} onSignedOut={look} />
  );
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <App />
    </MantineProvider>
  </StrictMode>,
);
