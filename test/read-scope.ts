import { FULL_ACCESS } from '@uproar/core';
import type { ReadScope } from '../packages/service/dist/reading/read-scope.js';

/** A caller who may read everything. */
export const EVERYBODY: ReadScope = {
  accessTo: () => FULL_ACCESS,
  effectiveAccess: () => FULL_ACCESS,
  key: '',
  named: [],
  limits: {},
  holder: '',
  identity: '',
};
