'use strict';
// Mocha's own report, and as the very last line its counts in the plain form that CI reads.
const Mocha = require('mocha');

/** How long started processes may take to end after all tests, in milliseconds. */
const LEFT_RUNNING_MS = 20_000;

module.exports = class Counting extends Mocha.reporters.Spec {
  constructor(runner, options) {
    super(runner, options);
    // What a test has left running would keep the process for ever.
    runner.once('end', () => {
      const timer = setTimeout(() => {
        console.log('All tests are through, but something that they began still runs.');
        process.exit(1);
      }, LEFT_RUNNING_MS);
      timer.unref();
    });
    process.on('exit', () => {
      const { passes, failures, pending } = this.stats;
      console.log(`${passes} passed, ${failures} failed${pending > 0 ? `, ${pending} skipped` : ''}`);
    });
  }
};
