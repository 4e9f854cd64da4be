import { distance } from 'fastest-levenshtein';
import { nearness } from './near-names.js';

nearness.distance = distance;
