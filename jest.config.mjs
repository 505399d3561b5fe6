/** Real databases and a real browser take their time; what runs is bounded by the run as a whole. */
export default {
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      { jsc: { parser: { syntax: 'typescript', tsx: true }, target: 'es2022' }, module: { type: 'es6' } },
    ],
  },
  transformIgnorePatterns: ['/node_modules/'],
  testMatch: ['<rootDir>/packages/*/tests/**/*.test.ts', '<rootDir>/e2e/**/*.test.ts'],
  testTimeout: 120_000,
}
