import { expect } from 'chai';
import { adviceFor, type PageState } from '../dist/transport/warn-of-state.js';

describe('what a page is told about its connection', () => {
  const page: PageState = { protocol: 'http:', onLine: true, serviceWorker: false };
  const offline = (reason: string) => ({ name: 'offline', reason, retryInMs: 0 }) as const;
  const url = 'http://tower.example';

  it('names the cause and what to do', () => {
    const dead = adviceFor(offline('No answer from ws://tower.example.'), url, page);
    expect(dead).to.include('No store answers at http://tower.example').and.include('uproar doctor --url');
    expect(adviceFor(offline('x'), url, { ...page, onLine: false })).to.match(/^This device has no network\./);
    expect(adviceFor(offline('x'), url, { ...page, protocol: 'https:' })).to.include('--tls-cert');
    const other = offline('http://tower.example answers, but is not an Uproar store (HTTP status 200).');
    expect(adviceFor(other, url, page)).to.include('A proxy or another program may answer');
    expect(adviceFor(other, url, { ...page, serviceWorker: true })).to.include('The service worker of this page');
    const problem = {
      type: '/problems/token-invalid',
      title: 'The token is not valid',
      status: 401,
      detail: 'It is wrong.',
    };
    expect(adviceFor({ name: 'refused', problem }, url, page)).to.equal('The token is not valid. It is wrong.');
    expect(adviceFor({ name: 'connecting' }, url, page)).to.equal(undefined);
  });
});
