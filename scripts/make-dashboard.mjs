// Writes deploy/dashboard.json, the dashboard for Grafana: `node scripts/make-dashboard.mjs`.
import { writeFileSync } from 'node:fs';

const quantiles = (metric, by = 'le') =>
  [0.5, 0.95, 0.99].map((quantile) => ({
    expr: `histogram_quantile(${quantile}, sum by (${by}) (rate(${metric}_bucket[$__rate_interval])))`,
    legendFormat: `p${quantile * 100}`,
  }));
const rate = (metric, legendFormat, by) => ({
  expr: `sum${by ? ` by (${by})` : ''} (rate(${metric}[$__rate_interval]))`,
  legendFormat,
});
const plain = (expr, legendFormat) => ({ expr, legendFormat });

const panels = [
  ['Commits a second, by outcome', 'ops', [rate('uproar_commits_total', '{{outcome}}', 'outcome')]],
  ['A commit takes', 's', quantiles('uproar_commit_duration_seconds')],
  ['From the sync to the sockets', 's', quantiles('uproar_delivery_delay_seconds')],
  ['Events sent a second', 'ops', [rate('uproar_deliveries_total', 'events')]],
  [
    'Connections',
    'short',
    [plain('uproar_connections', '{{transport}}'), plain('uproar_watches', 'watches'), plain('uproar_views', 'views')],
  ],
  [
    'Behind: merged changes and refills a second',
    'ops',
    [rate('uproar_merges_total', 'merged'), rate('uproar_refills_total', 'refills')],
  ],
  ['Finding the views of a commit takes', 's', quantiles('uproar_matcher_duration_seconds')],
  ['Commits waiting', 'short', [plain('uproar_commits_waiting', 'waiting')]],
  ['Requests a second', 'reqps', [rate('uproar_http_request_duration_seconds_count', '{{status}}', 'status')]],
  ['A query takes', 's', quantiles('uproar_query_duration_seconds')],
  ['Refusals a second', 'ops', [rate('uproar_refusals_total', '{{problem}}', 'problem')]],
  ['Event loop, p99', 's', [plain('nodejs_eventloop_lag_p99_seconds', 'late')]],
  [
    'Memory',
    'bytes',
    [plain('process_resident_memory_bytes', 'resident'), plain('nodejs_heap_size_used_bytes', 'heap')],
  ],
  [
    'Store',
    'bytes',
    [
      plain('uproar_store_bytes', 'store'),
      plain('uproar_journal_bytes', 'journal'),
      plain('uproar_disk_free_bytes', 'free'),
    ],
  ],
];
const dashboard = {
  title: 'Uproar',
  uid: 'uproar-store',
  tags: ['uproar'],
  timezone: 'browser',
  refresh: '15s',
  schemaVersion: 39,
  time: { from: 'now-1h', to: 'now' },
  templating: { list: [{ name: 'source', type: 'datasource', query: 'prometheus', label: 'Source' }] },
  panels: panels.map(([title, unit, targets], place) => ({
    id: place + 1,
    type: 'timeseries',
    title,
    datasource: { type: 'prometheus', uid: '${source}' },
    gridPos: { x: (place % 2) * 12, y: Math.floor(place / 2) * 8, w: 12, h: 8 },
    fieldConfig: { defaults: { unit, min: 0 }, overrides: [] },
    targets: targets.map((target, at) => ({ refId: String.fromCharCode(65 + at), ...target })),
  })),
};
writeFileSync(new URL('../deploy/dashboard.json', import.meta.url), `${JSON.stringify(dashboard, null, 2)}\n`);
