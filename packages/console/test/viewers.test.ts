import { expect } from 'chai';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { KEY, TestService, until } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { Windows } from './windows.js';

describe('who looks at a document in the console', function () {
  // A browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let service: TestService;
  let endMovement: () => Promise<void>;
  before(async () => {
    service = await TestService.start({
      consoleDirectory: CONSOLE_DIRECTORY,
      accounts: 'closed',
      presenceGraceMs: 500,
    });
    await service.request('PUT', '/v1/data/balloons/bl-1', { name: 'Amber Heron' });
    await service.request('PUT', '/v1/data/balloons/bl-2', { name: 'Blue Kite' });
    endMovement = keepMoving(service.client());
  });
  after(async () => {
    await endMovement();
    await service.stop();
  });

  it('is shown to the others, by name, as long as they look, and only where the store has viewers', async () => {
    const made = await service.request('POST', '/v1/keys', { name: 'tower', scope: 'admin' });
    const one = await windows.signIn(service.url, 'data/balloons/bl-1', KEY);
    await one.getByText('Amber Heron').first().waitFor();
    const viewers = async () =>
      ((await service.request('GET', '/v1/data/viewers')).json as { documents: { data: object }[] }).documents.map(
        ({ data }) => data,
      );
    expect(await viewers(), 'none without the collection').to.deep.equal([]);
    await service.request('PUT', '/v1/data/viewers/first', {});
    await service.request('DELETE', '/v1/data/viewers/first');
    await until('the first says so', async () => (await viewers()).length === 1);
    const other = await windows.signIn(service.url, 'data/balloons/bl-1', made.json.key as string);
    await one.getByText('Also looking at this: tower').waitFor();
    await other.getByText('Also looking at this: environment').waitFor();
    await other.goto(`${service.url}/console/data/balloons/bl-2`);
    await one.getByText('Also looking at this').waitFor({ state: 'detached' });
    await one.context().close();
    await until(
      'the one that was closed is gone',
      async () => !(await viewers()).some((data) => (data as { document: string }).document === 'balloons/bl-1'),
    );
    await other.context().close();
  });
});
