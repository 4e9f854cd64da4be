/** The pages of the console, in the order of the work. */
export const PAGES = [
  { name: 'data', label: 'Data', about: 'the documents, live' },
  { name: 'query', label: 'Query', about: 'write a query, see its live result and its plan' },
  { name: 'boards', label: 'Boards', about: 'several saved queries on one page, each live' },
  { name: 'shapes', label: 'Shapes', about: 'the fields of a collection, their types, and rare ones' },
  { name: 'journal', label: 'Journal', about: 'all changes: by whom, before and after' },
  { name: 'hooks', label: 'Hooks', about: 'changes delivered to other servers' },
  { name: 'devices', label: 'Devices', about: 'connections and their lag' },
  { name: 'access', label: 'Access', about: 'policy, keys, accounts, audit log' },
  { name: 'usage', label: 'Usage', about: 'what identities read, write and are sent, by day and collection' },
  { name: 'operations', label: 'Operations', about: 'rates, latencies, slow queries, expensive watches' },
  { name: 'api', label: 'API', about: 'all requests, calls and events, with parameters and responses' },
] as const;
