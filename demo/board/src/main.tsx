import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { Board } from './board.js';

createRoot(document.getElementById('board')!).render(
  <StrictMode>
    <Board />
  </StrictMode>,
);

void navigator.serviceWorker?.register('worker.js');
