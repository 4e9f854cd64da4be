'use strict';
// Mocha's own report, and as the very last line its counts in the plain form that CI reads.
const Mocha = require('mocha');

module.exports = class Counting extends Mocha.reporters.Spec {
  constructor(runner, options) {
    super(runner, options);
    process.on('exit', () => {
      const { passes, failures, pending } = this.stats;
      console.log(`${passes} passed, ${failures} failed${pending > 0 ? `, ${pending} skipped` : ''}`);
    });
  }
};
