import { nearness } from '@uproar/core';
import { distance } from 'fastest-levenshtein';

// Bundles leave out what the core does without; the console suggests names, so it brings the distance along.
nearness.distance = distance;
