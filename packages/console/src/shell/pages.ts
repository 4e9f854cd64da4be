/** The pages of the console, in the order of the work. */
export const PAGES = [
  { name: 'data', label: 'Data', about: 'the documents, live' },
  { name: 'query', label: 'Query', about: 'write a condition, see it live, see what it costs' },
  { name: 'shapes', label: 'Shapes', about: 'which fields there are, of which types, what is rare' },
  { name: 'journal', label: 'Journal', about: 'what was changed, by whom, from what to what' },
  { name: 'devices', label: 'Devices', about: 'who is connected, and how far behind' },
  { name: 'access', label: 'Access', about: 'policy, keys, accounts, audit log' },
  { name: 'operations', label: 'Operations', about: 'rates, latency, slow queries, dear watches' },
  { name: 'api', label: 'API', about: 'requests, live calls and events, with all they take and answer' },
] as const;
