// `npm run bench -- NAME`: one benchmark; its last line is `NAME: ratio R (ours …, limit …)`.
// `npm run bench -- all [NAME …] [--write]`: all of them, or those named, one after another, compared with the last table in
// docs/performance.md, which `--write` replaces.
import { spawn, spawnSync } from 'node:child_process'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { build, install } from './prepare.mjs'

const TABLE = 'docs/performance.md'
const [BEGIN, END] = ['<!-- benchmarks -->', '<!-- /benchmarks -->']

const names = readdirSync('bench').flatMap(file => /^(.+)\.bench\.ts$/.exec(file)?.[1] ?? [])
const [name, ...more] = process.argv.slice(2)
const chosen = more.filter(one => one !== '--write')
const unknown =
  name === 'all' ? chosen.find(one => !names.includes(one)) : names.includes(name) ? undefined : name
if (name === undefined || unknown !== undefined) {
  process.stderr.write(`Name a benchmark: ${names.join(', ')}; or all.\n`)
  process.exit(1)
}
install()
build()
const command = one => ['--import', 'tsx', '--no-warnings', `bench/${one}.bench.ts`]
if (name === 'all') process.exit(await all(chosen.length > 0 ? chosen : names))
process.exit(spawnSync(process.execPath, command(name), { stdio: 'inherit' }).status ?? 1)

async function all(chosen) {
  const text = readFileSync(TABLE, 'utf8')
  const before = new Map(rowsOf(text))
  const commit = spawnSync('git', ['rev-parse', '--short', 'HEAD'], { encoding: 'utf8' }).stdout.trim()
  const now = new Map(before)
  let failed = 0
  for (const one of chosen) {
    const last = await lastLine(one)
    const ratio = /: ratio ([\d.]+)/.exec(last)?.[1]
    if (ratio === undefined) {
      failed++
      process.stdout.write(`${one}: it did not come to its end\n`)
      continue
    }
    const was = before.get(one)
    process.stdout.write(`  before: ${was ? `${was.ratio} at ${was.commit}` : 'not measured'}\n`)
    now.set(one, { ratio, commit, said: last.replace(/^.*?\((.*)\)$/, '$1') })
  }
  const table = [
    '| benchmark | ratio | what it said | commit |',
    '|---|---|---|---|',
    ...[...now].sort().map(([one, { ratio, commit, said }]) => `| ${one} | ${ratio} | ${said} | ${commit} |`),
  ].join('\n')
  process.stdout.write(`${table}\n`)
  if (more.includes('--write')) {
    const [head, rest] = text.split(BEGIN)
    writeFileSync(TABLE, `${head}${BEGIN}\n\n${table}\n\n${END}${rest.split(END)[1]}`)
  }
  return failed
}

/** Runs it, shows what it says, and gives its last line. */
function lastLine(one) {
  return new Promise(resolve => {
    const child = spawn(process.execPath, command(one), { stdio: ['ignore', 'pipe', 'inherit'] })
    let said = ''
    child.stdout.on('data', part => {
      process.stdout.write(part)
      said += part
    })
    child.once('exit', () => resolve(said.trimEnd().split('\n').at(-1) ?? ''))
  })
}

function rowsOf(text) {
  const table = text.split(BEGIN)[1]?.split(END)[0] ?? ''
  return [...table.matchAll(/^\| ([\w-]+) \| ([\d.]+) \| (.*) \| ([0-9a-f]+) \|$/gm)].map(
    ([, one, ratio, said, commit]) => [one, { ratio, said, commit }],
  )
}
