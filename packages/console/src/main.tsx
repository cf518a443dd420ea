import '@fontsource-variable/figtree';
import '@fontsource-variable/fraunces';
import '@fontsource-variable/jetbrains-mono';
import '@mantine/core/styles.css';
import '@mantine/charts/styles.css';
import './styles.css';
import { MantineProvider } from '@mantine/core';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { queries } from './api.js';
import { Console } from './console.js';
import { theme, variables } from './theme.js';

const nonce = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? '';
// What locks scrolling behind a drawer writes a style element of its own, and looks here for the nonce.
(globalThis as { __webpack_nonce__?: string }).__webpack_nonce__ = nonce;

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto" getStyleNonce={() => nonce}>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Console />
        </BrowserRouter>
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
