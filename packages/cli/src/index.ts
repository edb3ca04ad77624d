/** What the examples and the benchmarks share with the command line: the bee-keepers' scenario and its demo data. */
export { rules as officeRules } from './demo/rules.ts';
export { cooperative } from './demo/scenario.ts';
export { type DemoRows, demoRows } from './demo/seed.ts';
