/** The bee-keepers' scenario and its rows: what the examples and the demo share. */
export { actions as officeActions } from './actions.ts';
export { type DemoRows, demoRows } from './rows.ts';
export { rules as officeRules } from './rules.ts';
export { cooperative } from './schema.ts';
