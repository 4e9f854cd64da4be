import { expect } from 'chai';
import fc from 'fast-check';
import {
  applyPatch,
  compareValues,
  deepEqual,
  diff,
  formatPointer,
  JsonTextError,
  parseJson,
  parsePointer,
  typeRank,
  type JsonValue,
} from '@uproar/core';

// fast-check shrinks a failing input to the smallest one, and prints the seed that repeats it.
const json = fc.jsonValue({ maxDepth: 4 }) as fc.Arbitrary<JsonValue>;

describe('JSON values', () => {
  it('are patched from any value to any other', () => {
    fc.assert(
      fc.property(json, json, (before, after) => {
        expect(deepEqual(applyPatch(before, diff(before, after)), after)).to.equal(true);
      }),
      { numRuns: 1000, seed: 5 },
    );
  });

  it('are parsed exactly like the language does, or refused where it refuses', () => {
    fc.assert(
      fc.property(json, fc.nat(), fc.constantFrom('', '"', ',', '}', ']', '0', '\\', '\u0001'), (value, at, extra) => {
        const whole = JSON.stringify(value);
        const place = at % (whole.length + 1);
        const text = extra === '' ? whole : whole.slice(0, place) + extra + whole.slice(place);
        let expected: unknown;
        try {
          expected = JSON.parse(text);
        } catch {
          expect(() => parseJson(text)).to.throw(JsonTextError);
          return;
        }
        try {
          expect(deepEqual(parseJson(text), expected as JsonValue)).to.equal(true);
        } catch (error) {
          // I-JSON refuses more: members of the same name, and numbers that a double does not hold.
          expect(error).to.be.instanceOf(JsonTextError);
          expect((error as Error).message).to.match(/same name|The (integer|number)/);
        }
      }),
      { numRuns: 2000, seed: 6 },
    );
  });

  it('are addressed by pointers that hold any member name', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'binary' })), (names) => {
        expect(parsePointer(formatPointer(names))).to.deep.equal(names);
      }),
      { numRuns: 1000, seed: 7 },
    );
  });

  it('have one total order, by type first', () => {
    fc.assert(
      fc.property(json, json, json, (a, b, c) => {
        expect(Math.sign(compareValues(a, b)) + Math.sign(compareValues(b, a))).to.equal(0);
        if (typeRank(a) !== typeRank(b)) {
          expect(Math.sign(compareValues(a, b))).to.equal(Math.sign(typeRank(a) - typeRank(b)));
        }
        if (compareValues(a, b) <= 0 && compareValues(b, c) <= 0) expect(compareValues(a, c)).to.be.at.most(0);
      }),
      { numRuns: 2000, seed: 8 },
    );
  });
});
