// Builds what runs: the server and the stand-ins as one bundle each (packages of the registry stay outside), the web.
import { cp, mkdir, rm } from 'node:fs/promises'
import { build } from 'esbuild'

const OUT = 'dist'

/** Everything but our own packages is resolved when it runs. */
const registryPackagesOutside = {
  name: 'registry packages outside',
  setup({ onResolve }) {
    onResolve({ filter: /^[^./]/ }, ({ path, kind }) =>
      kind === 'entry-point' || path.startsWith('@tide/') ? undefined : { path, external: true },
    )
  },
}

await rm(OUT, { recursive: true, force: true })
await mkdir(OUT)
const node = {
  bundle: true,
  platform: 'node',
  format: 'esm',
  target: 'node20',
  sourcemap: true,
  logLevel: 'warning',
}
await build({
  ...node,
  entryPoints: {
    server: 'packages/server/src/main.ts',
    engine: 'packages/server/src/engine.ts',
    'pglite-worker': 'packages/store/src/pglite-worker.mjs',
    'duckdb-host': 'packages/connectors/src/duckdb/duckdb-host.mjs',
    'parse-worker': 'packages/connectors/src/postgres/question/parse-worker.mjs',
  },
  outdir: `${OUT}/server`,
  outExtension: { '.js': '.mjs' },
  plugins: [registryPackagesOutside],
})
await build({
  ...node,
  entryPoints: {
    'stand-ins': 'packages/stand-ins/src/main.ts',
    watchdog: 'packages/stand-ins/src/watchdog.mjs',
  },
  outdir: `${OUT}/stand-ins`,
  outExtension: { '.js': '.mjs' },
  plugins: [registryPackagesOutside],
})
await build({
  ...node,
  entryPoints: { tide: 'packages/cli/src/main.ts' },
  outdir: `${OUT}/cli`,
  outExtension: { '.js': '.mjs' },
  banner: { js: '#!/usr/bin/env node' },
})
await cp('packages/store/migrations', `${OUT}/migrations`, { recursive: true })

const vite = await import('vite')
await vite.build({
  root: 'packages/web',
  logLevel: 'warn',
  build: { outDir: `../../${OUT}/web`, emptyOutDir: true },
})
