// Loaded with `node --import`: shifts the clock of a process by CLOCK_SHIFT_MS.
const shiftMs = Number(process.env.CLOCK_SHIFT_MS ?? 0);
if (shiftMs !== 0) {
  const RealDate = Date;
  globalThis.Date = class Date extends RealDate {
    constructor(...args) {
      if (args.length === 0) super(RealDate.now() + shiftMs);
      else super(...args);
    }
    static now() {
      return RealDate.now() + shiftMs;
    }
  };
}
