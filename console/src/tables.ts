// What computes in the console, for tests by tables (e2e/tables_test.go). No page imports it.
export * as forms from './document/forms'
export * as lessons from './document/lessons'
export * as match from './document/match'
export * as outline from './document/outline'
export * as splice from './document/splice'
export * as format from './format'
export * as graph from './parts/graph'
export * as results from './results'
