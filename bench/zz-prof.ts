import { spawn } from 'node:child_process';
import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { drive, HttpLane } from './http-lane.js';
import { openMany } from './harness.js';
const what = process.argv[2]!; const conns = Number(process.argv[3] ?? 64);
const dir = mkdtempSync('/tmp/prof-');
const key = 'bench-key-0123456789';
const child = spawn('node', ['--cpu-prof', '--cpu-prof-dir=' + dir, '--cpu-prof-interval=200', '/work/main/packages/cli/dist/main.js', 'serve', '--data', dir + '/data', '--port', '0'], { env: { ...process.env, UPROAR_ADMIN_KEY: key }, stdio: ['ignore', 'pipe', 'inherit'] });
let said = ''; child.stdout.on('data', (t) => (said += t));
while (!/http:\/\/[\d.:]+/.test(said)) await new Promise((r) => setTimeout(r, 50));
const url = /http:\/\/[\d.:]+/.exec(said)![0];
const cpu = () => { const f = readFileSync(`/proc/${child.pid}/stat`, 'utf8').split(') ')[1]!.split(' '); return (Number(f[11]) + Number(f[12])) * 10000; };
let n0 = 0, c0 = 0, rate = 0;
if (what === 'put') {
  const lanes = await Promise.all(Array.from({ length: conns }, () => HttpLane.open(url)));
  const put = (lane: HttpLane, n: number) => lane.send('PUT', `/v1/data/balloons/bl-${n % 5000}`, JSON.stringify({ name: `balloon ${n}`, status: 'aloft', altitude: n % 3000, fuel: n % 100, crewId: `c-${n % 97}` }));
  await drive(lanes, 1000, put); c0 = cpu();
  const r = await drive(lanes, 6000, put); n0 = r.latencies.length; rate = n0 / r.seconds; c0 = cpu() - c0;
  for (const l of lanes) l.close();
} else {
  const listeners = await openMany(conns, url, '/v1/live');
  const go = async (ms: number) => { const s = performance.now(); let commits = 0; await Promise.all(listeners.map(async (l, d) => { while (performance.now() - s < ms) { await l.call('commit', { writes: [{ put: `balloons/bl-${d}`, data: { altitude: commits % 3000, fuel: commits % 100, crewId: `c-${d % 97}`, status: 'aloft' } }] }); commits++; } })); return commits; };
  await go(1000); c0 = cpu(); n0 = await go(6000); c0 = cpu() - c0; rate = n0 / 6;
  for (const { socket } of listeners) socket.terminate();
}
console.log(Math.round(rate), 'per s', (c0 / n0).toFixed(1), 'µs CPU (with profiler)');
child.kill('SIGTERM'); await new Promise((res) => child.once('exit', res));
const file = readdirSync(dir).filter((f) => f.endsWith('.cpuprofile')).map(f=>dir+'/'+f).sort((a,b)=>readFileSync(b).length-readFileSync(a).length)[0]!;
const p = JSON.parse(readFileSync(file, 'utf8'));
rmSync(dir, { recursive: true });
const id: any = {}; p.nodes.forEach((n: any) => (id[n.id] = n));
const self: any = {}, bymod: any = {}; let total = 0;
p.samples.forEach((s: number, i: number) => { const n = id[s]; const d = p.timeDeltas[i]; const f = n.callFrame; if (f.functionName === '(idle)') return; total += d; const u = f.url.replace(/.*node_modules\//, '').replace(/.*packages\//, ''); const k = f.functionName + ' ' + u + ':' + f.lineNumber; self[k] = (self[k] || 0) + d; const m = u.split('/').slice(0, u.startsWith('@') ? 2 : (u.startsWith('service')||u.startsWith('core') ? 4 : 1)).join('/') || f.functionName; bymod[m] = (bymod[m] || 0) + d; });
const show = (o: any, n: number) => Object.entries(o).sort((a: any, b: any) => b[1] - a[1]).slice(0, n).forEach(([k, v]: any) => console.log((v / n0).toFixed(2).padStart(6), 'µs', k));
show(bymod, 34); console.log('---'); show(self, 60);
process.exit(0);
