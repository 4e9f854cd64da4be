import { expect } from 'chai';
import { LiveEvent, StateText } from '../dist/live/live-event.js';
import { Subscription, type SubscribedView } from '../dist/live/subscription.js';

/** A view of one number, the seq, and a connection that records what it receives. */
function connect() {
  const received: string[] = [];
  /** Whether the view has to read the store to find the missed changes. */
  const slow = { on: false };
  const sink = { full: false, send: (event: LiveEvent) => received.push(`${event.name} ${event.seq}`) };
  const change = (seq: number) =>
    LiveEvent.change('w', `r${seq}`, seq, `[{"op":"replace","path":"/a/data/n","value":${seq}}]`);
  const view: SubscribedView & { seq: number; fullState(): LiveEvent } = {
    name: 'w',
    seq: 1,
    settled: undefined,
    source: undefined as never,
    resumePoint: (seq: number) => `r${seq}`,
    fullState: (): LiveEvent =>
      LiveEvent.full('reset', 'w', `r${view.seq}`, view.seq, new StateText({ seq: 1, documents: [], more: false })),
    changeSince: (seq: number): LiveEvent | Promise<LiveEvent> => {
      const event = seq < view.seq ? change(view.seq) : LiveEvent.change('w', `r${seq}`, seq, '[]');
      return slow.on ? new Promise((resolve) => setTimeout(() => resolve(event), 20)) : event;
    },
    noteSent: () => undefined,
    noteMerged: () => undefined,
    remove: () => undefined,
  };
  const subscription = new Subscription(view, sink, 'key:tower', (error) => {
    throw error as Error;
  });
  const commit = () => subscription.deliver(change(++view.seq));
  subscription.begin(view.fullState(), (event) => sink.send(event));
  return { received, sink, slow, subscription, commit };
}

describe('the subscription of a connection', () => {
  it('receives each event as it comes', () => {
    const { received, commit } = connect();
    commit();
    commit();
    expect(received).to.deep.equal(['reset 1', 'change 2', 'change 3']);
  });

  it('receives nothing while its permissions are being checked, and then one merged change', () => {
    const { received, subscription, commit } = connect();
    subscription.suspend();
    commit();
    commit();
    expect(received).to.deep.equal(['reset 1']);
    subscription.resume();
    expect(received).to.deep.equal(['reset 1', 'change 3']);
  });

  it('receives nothing while it does not read, and then one merged change', async () => {
    const { received, sink, subscription, commit } = connect();
    sink.full = true;
    commit();
    commit();
    expect(received).to.deep.equal(['reset 1']);
    expect(subscription.lag.commits).to.equal(2);
    sink.full = false;
    await subscription.catchUp();
    expect(received).to.deep.equal(['reset 1', 'change 3']);
    commit();
    expect(received.at(-1)).to.equal('change 4');
  });

  it('also receives commits made while it catches up', async () => {
    const { received, sink, slow, subscription, commit } = connect();
    sink.full = true;
    commit();
    sink.full = false;
    slow.on = true;
    const caughtUp = subscription.catchUp();
    commit();
    await caughtUp;
    expect(received).to.deep.equal(['reset 1', 'change 2', 'change 3']);
    expect(subscription.lag.commits).to.equal(0);
  });
});
