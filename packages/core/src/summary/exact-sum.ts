const MANTISSA_BITS = 52n;
const MANTISSA_MASK = (1n << MANTISSA_BITS) - 1n;
const IMPLICIT_BIT = 1n << MANTISSA_BITS;
/** The exponent of the least bit of the smallest numbers (IEEE 754, binary64). */
const LEAST_EXPONENT = -1074;

const scratch = new DataView(new ArrayBuffer(8));

/**
 * An exact sum of numbers, rounded only when it is read. Added numbers can be subtracted again, in any order, so the
 * sum never drifts.
 */
export class ExactSum {
  /** The sum of whole numbers, as long as that is exact. */
  #whole = 0;
  /** The rest: for each exponent of two, how many times that power. */
  readonly #parts = new Map<number, bigint>();

  add(value: number): void {
    this.#change(value, 1n);
  }

  subtract(value: number): void {
    this.#change(value, -1n);
  }

  /** The sum, rounded once to the nearest number (ties to even); infinite where it is larger than any number. */
  get value(): number {
    if (this.#parts.size === 0) return this.#whole;
    const least = Math.min(0, ...this.#parts.keys());
    let total = BigInt(this.#whole) << BigInt(-least);
    for (const [exponent, count] of this.#parts) total += count << BigInt(exponent - least);
    return scale(total, least);
  }

  #change(value: number, sign: 1n | -1n): void {
    if (Number.isSafeInteger(value)) {
      const whole = sign === 1n ? this.#whole + value : this.#whole - value;
      if (Number.isSafeInteger(whole)) {
        this.#whole = whole;
        return;
      }
    }
    const { mantissa, exponent } = decompose(value);
    const count = (this.#parts.get(exponent) ?? 0n) + sign * mantissa;
    if (count === 0n) this.#parts.delete(exponent);
    else this.#parts.set(exponent, count);
  }
}

/** A finite number as a whole number times a power of two. */
function decompose(value: number): { mantissa: bigint; exponent: number } {
  scratch.setFloat64(0, value);
  const bits = scratch.getBigUint64(0);
  const raw = Number((bits >> MANTISSA_BITS) & 0x7ffn);
  const fraction = bits & MANTISSA_MASK;
  const size = raw === 0 ? fraction : fraction | IMPLICIT_BIT;
  return { mantissa: value < 0 ? -size : size, exponent: LEAST_EXPONENT + Math.max(0, raw - 1) };
}

/** A whole number times a power of two, rounded once. */
function scale(total: bigint, exponent: number): number {
  const negative = total < 0n;
  let size = negative ? -total : total;
  // Only whether any bits are cut off matters; 64 bits are enough for rounding.
  const excess = size.toString(16).length * 4 - 64;
  if (excess > 0) {
    const cut = size >> BigInt(excess);
    size = cut << BigInt(excess) === size ? cut : cut | 1n;
    exponent += excess;
  }
  const rounded = Number(size);
  // In two steps, since a power of two may be out of range where the product is not.
  const half = Math.trunc(exponent / 2);
  const result = rounded * 2 ** half * 2 ** (exponent - half);
  return negative ? -result : result;
}
