import { FULL_ACCESS } from '@uproar/core';
import type { Viewer } from '../packages/service/dist/live/sources.js';

/** Somebody who may see everything. */
export const EVERYBODY: Viewer = {
  accessTo: () => FULL_ACCESS,
  glimpse: () => FULL_ACCESS,
  key: '',
  named: [],
  limits: {},
  holder: '',
};
