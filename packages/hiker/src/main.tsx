import { OrchardProvider } from '@orchard/react';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { App } from './app.js';
import { openOrchard } from './orchard.js';
import './hiker.css';

const orchard = await openOrchard();
orchard.log.reportUnhandled();
// The worker serves the app without a signal, and shows what is pushed.
void navigator.serviceWorker?.register('/worker.js');

createRoot(document.querySelector('#app') as HTMLElement).render(
  <StrictMode>
    <OrchardProvider orchard={orchard as never}>
      <App />
    </OrchardProvider>
  </StrictMode>,
);
