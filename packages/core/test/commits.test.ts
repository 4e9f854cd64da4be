import { expect } from 'chai';
import {
  applyChange,
  applyPermitted,
  applyWrite,
  compareStrings,
  deepEqual,
  DEFAULT_DOCUMENT_LIMITS,
  FULL_ACCESS,
  netChanges,
  patchForChanges,
  type Condition,
  type Document,
  type DocumentChange,
  type Write,
} from '@uproar/core';
import { Random } from '../../../test/random.js';

const stamp = { seq: 7, timeMs: Date.UTC(2026, 5, 12) };
const base = { collection: 'balloons', id: 'bl-1' };
const present: Document = {
  id: 'bl-1',
  version: 3,
  created: '2026-06-01T00:00:00.000Z',
  updated: '2026-06-02T00:00:00.000Z',
  data: { name: 'Amber', fuel: 50 },
};

describe('applying a write', () => {
  it('creates with the time of the commit, and its seq as the version', () => {
    expect(applyWrite(undefined, { ...base, kind: 'create', data: { a: 1 } }, stamp)).to.deep.equal({
      after: {
        id: 'bl-1',
        version: 7,
        created: '2026-06-12T00:00:00.000Z',
        updated: '2026-06-12T00:00:00.000Z',
        data: { a: 1 },
      },
    });
  });

  it('replaces and merges without touching when it was created', () => {
    for (const kind of ['put', 'merge'] as const) {
      const outcome = applyWrite(present, { ...base, kind, data: { fuel: null, pad: 'p-1' } }, stamp);
      const { after } = outcome as { after: Document };
      expect(after.created).to.equal(present.created);
      expect(after.data).to.deep.equal(kind === 'put' ? { fuel: null, pad: 'p-1' } : { name: 'Amber', pad: 'p-1' });
    }
  });

  it('gives documents an end, keeps it, moves it and takes it off', () => {
    const endAfter = (current: Document | undefined, write: Partial<Write>) => {
      const outcome = applyWrite(current, { ...base, data: {}, ...write } as Write, stamp);
      return 'after' in outcome ? outcome.after?.expires : outcome.refusal.kind;
    };
    const ending: Document = { ...present, expires: '2026-06-12T00:00:00.000Z' };
    const noon = Date.UTC(2026, 5, 12, 12);
    for (const kind of ['create', 'put', 'merge'] as const) {
      const current = kind === 'merge' ? present : undefined;
      expect(endAfter(current, { kind }), kind).to.equal(undefined);
      expect(endAfter(current, { kind, ttlMs: 1500 }), kind).to.equal('2026-06-12T00:00:01.500Z');
      expect(endAfter(current, { kind, expires: noon }), kind).to.equal('2026-06-12T12:00:00.000Z');
    }
    const kept = [
      { kind: 'merge' },
      { kind: 'patch', ops: [] },
      { kind: 'adjust', by: { '/fuel': { add: 1 } } },
    ] as const;
    for (const write of kept) {
      expect(endAfter(ending, write as never), write.kind).to.equal(ending.expires);
      expect(endAfter(ending, { ...write, expires: null } as never), write.kind).to.equal(undefined);
    }
    expect(endAfter(ending, { kind: 'put' }), 'put without an end').to.equal(undefined);
    expect(endAfter(present, { kind: 'put', ttlMs: 1e18 }), 'the latest').to.equal('9999-12-31T23:59:59.999Z');
    expect(endAfter(present, { kind: 'put', expires: -1e15 }), 'the earliest').to.equal('1970-01-01T00:00:00.000Z');

    const end = (current: Document | undefined, timeMs: number) =>
      applyWrite(current, { ...base, kind: 'delete', ifExpired: true }, { seq: 7, timeMs });
    expect(end(ending, stamp.timeMs), 'at its time').to.deep.equal({ after: undefined });
    expect(end(ending, stamp.timeMs - 1), 'before').to.deep.equal({ after: ending, kept: true });
    expect(end(present, stamp.timeMs), 'one without an end').to.deep.equal({ after: present, kept: true });
    expect(end(undefined, stamp.timeMs), 'one that is gone').to.deep.equal({ after: undefined, kept: true });
  });

  it('refuses impossible writes, and reports the present state', () => {
    const refusal = (current: Document | undefined, write: Partial<Write>) => {
      const full = { ...base, data: {}, ...write } as Write;
      const outcome = applyPermitted(current, full, stamp, DEFAULT_DOCUMENT_LIMITS, FULL_ACCESS);
      return 'refusal' in outcome ? `${outcome.refusal.kind} ${outcome.refusal.currentVersion}` : 'done';
    };
    expect(refusal(present, { kind: 'create' })).to.equal('document-exists 3');
    expect(refusal(undefined, { kind: 'merge' })).to.equal('no-such-document 0');
    expect(refusal(undefined, { kind: 'delete' })).to.equal('no-such-document 0');
    const CONDITIONS: [Document | undefined, Condition, string][] = [
      [present, { versionIn: [3] }, 'done'],
      [present, { versionIn: [2, 3] }, 'done'],
      [present, { versionIn: [2] }, 'version-mismatch 3'],
      [present, { versionIn: [] }, 'version-mismatch 3'],
      [undefined, { versionIn: [2] }, 'version-mismatch 0'],
      [present, { exists: false }, 'version-mismatch 3'],
      [undefined, { exists: false }, 'done'],
      [undefined, { exists: true }, 'version-mismatch 0'],
      [present, { versionNotIn: [3] }, 'version-mismatch 3'],
      [present, { versionNotIn: [2] }, 'done'],
    ];
    for (const [current, condition, expected] of CONDITIONS) {
      expect(
        refusal(current, { kind: 'put', condition }),
        JSON.stringify({ version: current?.version, condition }),
      ).to.equal(expected);
    }
  });
});

describe('the state of a watch', () => {
  it('follows the documents, patch by patch, also when changes are merged into fewer', () => {
    const random = new Random(21);
    const belongs = ({ data }: Document) => data.status !== 'packed';
    for (let run = 0; run < 60; run++) {
      const documents = new Map<string, Document>();
      const state = new Map<string, Document>();
      let unsent: DocumentChange[] = [];
      for (let seq = 1; seq <= 60; seq++) {
        const id = `d-${random.integer(1, 8)}`;
        const before = documents.get(id);
        const data = before && random.chance(0.7) ? random.altered(before.data) : random.object();
        const status = random.pick(['aloft', 'packed']);
        const after: Document | undefined =
          before && random.chance(0.2)
            ? undefined
            : {
                id,
                version: seq,
                created: before?.created ?? String(seq),
                updated: String(seq),
                data: { ...(data as Document['data']), status },
              };
        if (after) documents.set(id, after);
        else documents.delete(id);
        unsent.push({ collection: 'd', id, before, after });
        if (random.chance(0.4)) continue;
        applyChange(state, patchForChanges(netChanges(unsent), belongs));
        unsent = [];
        const sorted = (map: Map<string, Document>) =>
          [...map].sort(([a], [b]) => compareStrings(a, b)).map(([, document]) => document);
        expect(deepEqual(sorted(state) as never, sorted(documents).filter(belongs) as never)).to.equal(true);
      }
    }
  });

  it('refuses a patch that does not fit, instead of going on unsound', () => {
    const state = new Map([['bl-1', present]]);
    expect(() => applyChange(state, [{ op: 'remove', path: '/bl-2' }])).to.throw('does not fit');
    expect(() => applyChange(state, [{ op: 'replace', path: '/bl-2/data/x', value: 1 }])).to.throw('no document');
  });
});
