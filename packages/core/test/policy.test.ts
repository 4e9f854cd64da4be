import { expect } from 'chai';
import {
  enableFullQueries,
  accessFor,
  applyPermitted,
  bindClaims,
  DEFAULT_DOCUMENT_LIMITS,
  formatText,
  policyFilterFor,
  parseText,
  PolicyError,
  prepareQuery,
  readPolicy,
  tryPolicy,
  withoutFields,
  type Claims,
  type Document,
  type JsonObject,
  type JsonValue,
  type Write,
} from '@uproar/core';

const NOW = '2026-06-12T04:30:00.000Z';
const STAMP = { seq: 9, timeMs: Date.parse(NOW) };

function doc(data: JsonObject, id = 'c-1'): Document {
  return { id, version: 3, created: NOW, updated: NOW, data };
}

const bound = (text: string, claims: Claims) => {
  const result = bindClaims(parseText(text), claims);
  return typeof result === 'boolean' ? result : formatText(result);
};

const POLICY = readPolicy({
  collections: {
    crews: {
      read: "claim('role') = 'director' OR open = TRUE OR lead = claim('sub')",
      create: "claim('role') = 'director'",
      update: "lead = claim('sub') AND lead = was('lead')",
      delete: "claim('role') = 'director'",
      conceal: ['phone', { field: 'notes.private', unless: "claim('role') = 'director'" }],
    },
  },
});
const LEAD = { claims: { sub: 'ada' } };
const DIRECTOR = { claims: { sub: 'dora', role: 'director' } };

enableFullQueries();

describe('conditions of a policy', () => {
  it('are worked out as far as claims go, so that those for whom they come to the same share them', () => {
    expect(bound("owner = claim('sub')", { sub: 'ada' })).to.equal("owner = 'ada'");
    expect(bound("claim('role') = 'director' OR open = TRUE", { role: 'director' })).to.equal(true);
    expect(bound("claim('role') = 'director' OR open = TRUE", { role: 'crew' })).to.equal('open = TRUE');
    expect(bound("claim('role') = 'director' AND open = TRUE", {})).to.equal(false);
    expect(bound("claim('a.b') = 1 AND altitude > claim('least')", { a: { b: 1 }, least: 300 })).to.equal(
      'altitude > 300',
    );
    expect(bound("A_CONTAINS(claim('crews'), [crew])", { crews: ['c-1', 'c-2'] })).to.equal("crew IN ('c-1', 'c-2')");
    expect(bound("A_CONTAINS(claim('crews'), [crew])", { crews: [] })).to.equal(false);
    expect(bound("A_CONTAINS(members, [claim('sub')])", { sub: 'ada' })).to.equal("A_CONTAINS(members, ['ada'])");
  });

  it('treat unknown as no, where that decides', () => {
    expect(bound("NOT (owner = claim('sub'))", {})).to.equal('NOT owner = NULL');
    expect(
      accessFor(readPolicy({ default: { read: "NOT (owner = claim('sub'))" } }), { claims: {} }, 'x').allows('read', {
        document: doc({ owner: 'a' }),
      }),
    ).to.equal(false);
    expect(bound("owner = claim('sub') OR CASEI(owner) = CASEI(claim('sub'))", {})).to.equal(false);
    expect(bound("owner IN (claim('sub'), 'x') OR type(claim('sub')) = type(owner)", {})).to.be.a('string');
    expect(bound("claim('sub') IS NULL", {})).to.equal(true);
    expect(bound("claim('org') IS NULL", { org: { name: 'x' } })).to.equal(false);
    expect(bound("claim('constructor') IS NULL AND claim('__proto__') IS NULL", {})).to.equal(true);
  });
});

describe('a policy', () => {
  const faults: [JsonValue, string, RegExp][] = [
    [{ colections: {} }, '/colections', /Did you mean "collections"/],
    [{ collections: { crews: { reed: 'TRUE' } } }, '/collections/crews/reed', /Did you mean "read"/],
    [{ collections: { Crews: {} } }, '/collections/Crews', /not a valid collection name/],
    [{ collections: { crews: { read: 'lead = clam(1)' } } }, '/collections/crews/read', /"clam".*Did you mean "claim"/],
    [{ collections: { crews: { read: 'lead' } } }, '/collections/crews/read', /field, not a condition/],
    [{ collections: { crews: { read: 7 } } }, '/collections/crews/read', /CQL2/],
    [{ collections: { crews: { create: "was('lead') = 1" } } }, '/collections/crews/create', /not available in create/],
    [{ collections: { crews: { read: "name LIKE claim('x')" } } }, '/collections/crews/read', /LIKE/],
    [
      { collections: { crews: { conceal: [{ field: 'a', unless: 'b = 1' }] } } },
      '/collections/crews/conceal/0/unless',
      /may only use claims/,
    ],
    [{ collections: { crews: { conceal: ['a..b'] } } }, '/collections/crews/conceal/0', /not a field name/],
    [{ anonymous: 'yes' }, '/anonymous', /true or false/],
    [[], '', /object/],
  ];
  for (const [form, pointer, message] of faults) {
    it(`is refused with the place: ${JSON.stringify(form)}`, () => {
      expect(() => readPolicy(form))
        .to.throw(PolicyError, message)
        .with.property('pointer', pointer);
    });
  }

  it('allows nothing without a rule, and applies only a collection’s own rules', () => {
    const policy = readPolicy({ default: { read: true }, collections: { crews: { create: true } } });
    const access = accessFor(policy, { claims: {} }, 'crews');
    expect([access.read, access.create, access.update, access.delete]).to.deep.equal([false, true, false, false]);
    expect(accessFor(policy, { claims: {} }, 'pads').read).to.equal(true);
    expect(accessFor(policy, { scope: 'read' }, 'crews')).to.include({ read: true, create: false });
    expect(accessFor(policy, { scope: 'write', collections: ['pads'] }, 'crews').read).to.equal(false);
  });

  it('explains what it says: the rule, its parts, and what it saw', () => {
    const before = doc({ lead: 'ada', open: true });
    const decision = tryPolicy(POLICY, {
      collection: 'crews',
      rule: 'update',
      claims: LEAD.claims,
      before,
      after: doc({ lead: 'bo', open: true }),
    });
    expect(decision).to.deep.equal({
      allowed: false,
      rule: 'update',
      pointer: '/collections/crews/update',
      condition: "lead = claim('sub') AND lead = was('lead')",
      parts: [
        { condition: "lead = claim('sub')", truth: false },
        { condition: "lead = was('lead')", truth: false },
      ],
      values: { lead: 'bo', "claim('sub')": 'ada', "was('lead')": 'ada' },
      concealed: ['phone', 'notes.private'],
    });
    const hidden = tryPolicy(POLICY, {
      collection: 'crews',
      rule: 'update',
      claims: {},
      before: doc({ lead: 'x' }),
      after: doc({}),
    });
    expect(hidden).to.include({ allowed: false, rule: 'read' });
    const none = tryPolicy(POLICY, { collection: 'pads', rule: 'read', claims: {}, before });
    expect(none).to.include({ allowed: false, pointer: null, condition: null });
    const seen = tryPolicy(POLICY, {
      collection: 'crews',
      rule: 'read',
      claims: LEAD.claims,
      before: doc({ open: true, phone: '1' }),
    });
    expect(seen.document?.data).to.deep.equal({ open: true });
  });
});

describe('a query of a caller with limited access', () => {
  const hidden = doc({ lead: 'bo', open: false, phone: '555-01', notes: { private: 'p', public: 'q' } }, 'c-2');
  const mine = doc({ lead: 'ada', open: false, phone: '555-02', notes: { private: 'r', public: 's' } });
  const ask = (where: string | undefined, rights = LEAD, order?: string) => {
    const access = accessFor(POLICY, rights, 'crews');
    return prepareQuery({ from: 'crews', where, order }, () => policyFilterFor(access));
  };

  it('finds what they may read', () => {
    expect(ask(undefined).matches({ document: hidden })).not.to.equal(true);
    expect(ask(undefined).matches({ document: mine })).to.equal(true);
    expect(ask("lead = claim('sub')").matches({ document: mine })).to.equal(true);
    expect(ask(undefined, DIRECTOR).where).to.equal(undefined);
  });

  it('cannot be used to find out concealed fields, by condition, order or projection', () => {
    for (const where of ["phone LIKE '555%'", 'phone IS NOT NULL', "notes.private = 'r'", 'size(notes) = 2'])
      expect(ask(where).matches({ document: mine }), where).not.to.equal(true);
    expect(ask('phone IS NULL AND size(notes) = 1').matches({ document: mine })).to.equal(true);
    expect(ask('phone IS NULL', DIRECTOR).matches({ document: mine })).not.to.equal(false);
    expect(ask(undefined, LEAD, 'phone,-notes,lead').order.map(({ path }) => path)).to.deep.equal([['lead']]);
    expect(ask(undefined).show(mine).data).to.deep.equal({ lead: 'ada', open: false, notes: { public: 's' } });
    const query = prepareQuery({ from: 'crews', fields: 'phone,lead' }, () =>
      policyFilterFor(accessFor(POLICY, LEAD, 'crews')),
    );
    expect(query.show(mine).data).to.deep.equal({ lead: 'ada' });
    expect(ask(undefined, DIRECTOR).show(mine).data).to.deep.include({ notes: { private: 'r', public: 's' } });
  });

  it('is shared by identities with the same result', () => {
    const other = { claims: { sub: 'ada', iat: 7 } };
    expect(ask('altitude > 1', other).key).to.equal(ask('altitude > 1').key);
    expect(ask('altitude > 1', { claims: { sub: 'bo' } }).key).not.to.equal(ask('altitude > 1').key);
    expect(ask('altitude > 1', DIRECTOR).key).not.to.equal(ask('altitude > 1').key);
  });
});

describe('a write of a caller with limited access', () => {
  const current = doc({ lead: 'ada', phone: '555', notes: { private: 'p', public: 'q' }, count: 1 });
  const hidden = doc({ lead: 'bo', phone: '555' });
  const attempt = (before: Document | undefined, write: Partial<Write>, rights = LEAD) =>
    applyPermitted(
      before,
      { collection: 'crews', id: 'c-1', ...write } as Write,
      STAMP,
      DEFAULT_DOCUMENT_LIMITS,
      accessFor(POLICY, rights, 'crews'),
    );
  const after = (outcome: ReturnType<typeof attempt>) => ('after' in outcome ? outcome.after?.data : outcome.refusal);

  it('keeps concealed fields when other data is written over them', () => {
    expect(after(attempt(current, { kind: 'put', data: { lead: 'ada', n: 1 } }))).to.deep.equal({
      lead: 'ada',
      n: 1,
      phone: '555',
      notes: { private: 'p' },
    });
    expect(after(attempt(current, { kind: 'merge', data: { phone: '777' } }))).to.include({ phone: '777' });
    expect(after(attempt(current, { kind: 'put', data: { lead: 'ada', notes: 'none' } }))).to.include({
      kind: 'not-allowed',
    });
    expect(after(attempt(current, { kind: 'adjust', by: { '/phone': { add: 1 } } } as never))).to.include({
      kind: 'not-allowed',
    });
    expect(after(attempt(current, { kind: 'adjust', by: { '/count': { add: 1 } } } as never))).to.include({
      count: 2,
      phone: '555',
    });
  });

  it('keeps the end of a document of which fields are concealed', () => {
    const ending = { ...current, expires: '2999-01-01T00:00:00.000Z' };
    const outcome = attempt(ending, { kind: 'merge', data: { n: 1 } });
    expect('after' in outcome && outcome.after?.expires).to.equal(ending.expires);
    expect(withoutFields(ending, [['phone']])).to.include({ expires: ending.expires });
  });

  it('does not reveal concealed fields', () => {
    const patch = (ops: unknown) => after(attempt(current, { kind: 'patch', ops } as never));
    expect(patch([{ op: 'test', path: '/phone', value: '555' }])).to.include({ kind: 'test-failed' });
    expect(patch([{ op: 'test', path: '/phone', value: '556' }])).to.deep.equal(
      patch([{ op: 'test', path: '/phone', value: '555' }]),
    );
    expect(patch([{ op: 'copy', from: '/phone', path: '/x' }])).to.include({ kind: 'patch-failed' });
    expect(patch([{ op: 'copy', from: '/notes', path: '/x' }])).to.deep.include({ x: { public: 'q' } });
  });

  it('finds what it does not see not to be there', () => {
    for (const kind of ['merge', 'patch', 'adjust', 'delete'] as const) {
      const write = { kind, data: {}, ops: [], by: {} } as never;
      expect(after(attempt(hidden, write))).to.deep.equal(after(attempt(undefined, write)));
      expect(after(attempt(hidden, write))).to.include({ kind: 'no-such-document', currentVersion: 0 });
    }
    const put = { kind: 'put', data: { lead: 'ada' } } as never;
    expect(after(attempt(hidden, put))).to.deep.equal(after(attempt(undefined, put)));
    expect(after(attempt(hidden, put))).to.include({ kind: 'not-allowed', rule: 'create', currentVersion: 0 });
    expect(after(attempt(hidden, { ...(put as object), condition: { exists: false } } as never))).to.include({
      kind: 'not-allowed',
    });
  });

  it('is evaluated on the document before and after', () => {
    expect(after(attempt(current, { kind: 'merge', data: { lead: 'bo' } }))).to.include({
      kind: 'not-allowed',
      rule: 'update',
    });
    expect(after(attempt(current, { kind: 'delete' }))).to.include({ kind: 'not-allowed', rule: 'delete' });
    expect(attempt(current, { kind: 'delete' }, DIRECTOR)).to.deep.equal({ after: undefined });
    expect(after(attempt(undefined, { kind: 'create', data: { lead: 'x' } }, DIRECTOR))).to.deep.equal({ lead: 'x' });
  });
});

describe('fields left out', () => {
  it('leave a document that has none of them the same object', () => {
    const document = doc({ a: { b: 1 }, list: [1] });
    expect(withoutFields(document, [['x'], ['a', 'c'], ['list', 'x'], ['a', 'b', 'c']])).to.equal(document);
    expect(withoutFields(document, [['a', 'b']]).data).to.deep.equal({ a: {}, list: [1] });
    expect(withoutFields(document, [['__proto__']])).to.equal(document);
  });
});
