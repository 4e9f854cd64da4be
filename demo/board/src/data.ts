import { connect, IndexedDbStorage } from '@uproar/client';

/** A balloon, as spectators may see it. */
export interface Balloon {
  name: string;
  status: string;
  altitude: number;
  position: { type: 'Point'; coordinates: [longitude: number, latitude: number] };
}

/** A flight. Spectators see those that are planned. */
export interface Flight {
  status: string;
  /** RFC 3339. */
  start: string;
  padId: string;
  passengers: number;
}

export interface Notice {
  title: string;
  text: string;
  severity: 'info' | 'warning';
  audience: string;
}

export interface Station {
  name: string;
  wind: { speed: number; gust: number; direction: number };
}

// Spectators do not sign in. What they may see is in the policy; what they have seen is kept for times without a network.
export const store = connect(location.origin, { storage: new IndexedDbStorage(`board/${location.host}`) });

export const balloons = store.collection<Balloon>('balloons');
export const flights = store.collection<Flight>('flights');
export const notices = store.collection<Notice>('notices');
export const stations = store.collection<Station>('stations');
export const gates = store.collection<{ visitors: number }>('gates');
