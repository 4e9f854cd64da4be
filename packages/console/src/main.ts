import { beginConnection } from './sign-in/connection';
import { keptKey, takeSignInKey } from './sign-in/sign-in-link';

// Before the router reads the address.
takeSignInKey();
// The page connects, and asks for what it shows first, while the rest of it is loaded.
const key = keptKey();
if (key !== undefined) beginConnection(key);
void import('./app');
