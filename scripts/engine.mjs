// `npm run engine`: an engine alone, which shares the pipelines of a store on a PostgreSQL server with others.
import { spawn } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { build, install } from './prepare.mjs'

install()
build()
const engine = spawn(
  process.execPath,
  ['--enable-source-maps', fileURLToPath(new URL('../dist/server/engine.mjs', import.meta.url))],
  { stdio: 'inherit' },
)
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => engine.kill(signal))
engine.once('exit', (code, signal) => (process.exitCode = code ?? (signal ? 1 : 0)))
