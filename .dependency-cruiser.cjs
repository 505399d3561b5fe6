/** The dependency rule of docs/architecture.md. Tests may reach further: they put real things together. */
const ours = name => `^packages/${name}/src`
const only = (name, allowed, comment) => ({
  name: `${name}-depends-on`,
  comment,
  severity: 'error',
  from: { path: ours(name) },
  to: {
    path: '^packages/',
    pathNot: [name, ...allowed].map(one => (one.includes('/') ? `^packages/${one}` : ours(one))),
  },
})

module.exports = {
  forbidden: [
    only('core', [], 'core imports nothing of ours'),
    only('connectors', ['core'], 'connectors import only core'),
    only('journal', ['core'], 'the journal imports only core'),
    only('store', ['core'], 'the store imports only core'),
    only(
      'engine',
      ['core', 'journal', 'connectors/src/contract/'],
      'the engine knows the journal and the connector contract, no connector, no store, no Koa',
    ),
    only('server', ['core', 'connectors', 'engine', 'store'], 'the server puts it all together'),
    only('web', ['core'], 'the web imports core and talks HTTP'),
    only('stand-ins', ['core'], 'stand-ins stand alone'),
    only('cli', ['core'], 'the command line imports core and talks HTTP'),
    {
      name: 'core-is-pure',
      comment: 'core does no I/O and uses no framework, only packages that compute',
      severity: 'error',
      from: { path: ours('core') },
      to: {
        dependencyTypes: ['core', 'npm', 'npm-dev', 'npm-peer'],
        pathNot: 'node_modules/(typebox|re2js|yaml|any-ascii|@noble/hashes|croner|node-diff3)/',
      },
    },
    {
      name: 'engine-without-koa',
      severity: 'error',
      from: { path: ours('engine') },
      to: { path: 'node_modules/(koa|@koa|pg|@duckdb)' },
    },
    { name: 'no-circular', severity: 'error', from: {}, to: { circular: true } },
  ],
  options: {
    tsPreCompilationDeps: true,
    tsConfig: { fileName: 'tsconfig.base.json' },
    doNotFollow: { path: 'node_modules' },
    exclude: { path: '(node_modules|dist)/' },
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'node', 'types'],
      extensions: ['.ts', '.tsx', '.mjs', '.js'],
    },
  },
}
