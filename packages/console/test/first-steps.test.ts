import { expect } from 'chai';
import { until, KEY, TestService } from '../../../test/service.js';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { Windows } from './windows.js';

describe('the first steps in the console', function () {
  this.timeout(90_000);
  const windows = new Windows();
  let service: TestService;
  before(async () => (service = await TestService.start({ consoleDirectory: CONSOLE_DIRECTORY, accounts: 'open' })));
  after(() => service.stop());

  it('lead from an empty store to a document, a live view, a policy and a backup, and see for themselves what is done', async () => {
    const page = await windows.signIn(service.url, '', KEY);
    await page.getByText('Nothing is in this store yet').waitFor();
    const step = (title: string) => page.getByRole('listitem').filter({ hasText: title });
    await page.getByText('0 of 4 done').waitFor();
    await page.getByRole('button', { name: 'Write notes/first from here' }).click();
    await until('it is written', async () => (await service.request('GET', '/v1/data/notes/first')).status === 200);
    // The page Data shows the collection now; the navigation leads back to the steps.
    await page.locator('[data-row="first"]').waitFor();
    await page.getByRole('link', { name: 'First steps' }).click();
    await step('Write the first document').getByText('The collection “notes” is there.').waitFor();

    const watcher = service.client({ device: 'my-app' });
    watcher.collection('notes').watch();
    await step('Show it live').getByText('my-app watches notes.').waitFor();

    const policy = step('Say who may see and change what');
    await policy.getByRole('button', { name: 'Put this policy in force' }).click();
    await policy.getByText('Version 1 of a policy is in force.').waitFor();
    await service.request('POST', '/v1/accounts', { name: 'ada', password: 'amber-balloon' });
    const session = (await service.as(null)('POST', '/v1/sessions', { name: 'ada', password: 'amber-balloon' })).json;
    const ada = service.as(session.accessToken as string);
    expect((await ada('GET', '/v1/data/notes/first')).status, 'people who signed in may read').to.equal(200);
    const { sub } = JSON.parse(atob((session.accessToken as string).split('.')[1] ?? 'e30=')) as { sub?: string };
    if (sub) expect((await ada('PUT', '/v1/data/notes/mine', { by: sub })).status).to.equal(201);
    expect((await ada('PUT', '/v1/data/notes/theirs', { by: 'another' })).status).to.equal(403);
    expect((await service.as(null)('GET', '/v1/data/notes/first')).status).to.be.oneOf([401, 403]);

    const backup = step('Make a backup');
    const [download] = await Promise.all([
      page.waitForEvent('download'),
      backup.getByRole('button', { name: 'Make one and download it' }).click(),
    ]);
    expect(download.suggestedFilename()).to.match(/^uproar-\d+\.sqlite$/);
    const bytes: Buffer[] = [];
    for await (const piece of await download.createReadStream()) bytes.push(piece as Buffer);
    expect(Buffer.concat(bytes).subarray(0, 15).toString()).to.equal('SQLite format 3');
    await backup.getByText('The last one was made').waitFor();
    await page.getByText('All done.').waitFor();
    const listed = (await service.request('GET', '/v1/backups')).json.backups as { sizeBytes: number }[];
    expect(listed).to.have.length(1);
    expect(listed[0]!.sizeBytes).to.equal(Buffer.concat(bytes).length);

    // What is undone is not ticked off any more.
    watcher.close();
    await step('Show it live').getByText('not yet').waitFor();
    await page.context().close();
  });
});
