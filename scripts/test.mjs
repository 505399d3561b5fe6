// `npm test`: installs what is missing (Debian's packages too), checks types, lint and the dependency rule, runs all
// tests. The last line is the runner's own totals: `N passed, N failed`.
import { spawn, spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { build, install } from './prepare.mjs'

/** What takes longer hangs; it is ended, so that the last suite that is told of says where. */
const LIMIT_MS = 40 * 60_000

const run = (command, args, env = {}) =>
  spawnSync(command, args, {
    stdio: 'inherit',
    env: { ...process.env, ...env },
    timeout: LIMIT_MS,
    killSignal: 'SIGKILL',
  }).status === 0

function installDebianPackages() {
  const missing = [
    ['chromium', existsSync('/usr/bin/chromium')],
    ['chromium-driver', existsSync('/usr/bin/chromedriver')],
    ['postgresql', existsSync('/usr/lib/postgresql')],
    ['mariadb-server', existsSync('/usr/sbin/mariadbd')],
  ].flatMap(([name, there]) => (there ? [] : [name]))
  if (missing.length === 0) return
  process.stdout.write(`Installing Debian’s ${missing.join(', ')} …\n`)
  const noninteractive = { DEBIAN_FRONTEND: 'noninteractive' }
  const done =
    run('apt-get', ['update', '-qq'], noninteractive) &&
    run('apt-get', ['install', '-y', '-qq', ...missing], noninteractive)
  if (!done) stop(`Install them by hand: apt-get install ${missing.join(' ')}`)
}

function stop(line) {
  process.stderr.write(`${line}\n`)
  process.exit(1)
}

installDebianPackages()
install()
build()
const checks = [
  ['types', ['npm', 'run', '-s', 'typecheck']],
  ['lint, format and the dependency rule', ['npm', 'run', '-s', 'lint']],
]
const broken = (
  await Promise.all(
    checks.map(([name, [command, ...args]]) => {
      const child = spawn(command, args, { stdio: 'inherit', timeout: LIMIT_MS, killSignal: 'SIGKILL' })
      return new Promise(resolve => child.once('exit', code => resolve(code === 0 ? [] : [name])))
    }),
  )
).flat()

/** Runs tests, and adds what came of them to the totals. */
const totals = { numPassedTests: 0, numFailedTests: 0, numFailedTestSuites: 0 }
function tests(...arguments_) {
  const report = join(mkdtempSync(join(tmpdir(), 'constant-tide-report-')), 'report.json')
  const ran = run(process.execPath, [
    '--experimental-vm-modules',
    '--no-warnings',
    'node_modules/jest/bin/jest.js',
    // What a test has left open does not hold up the run.
    '--forceExit',
    '--json',
    `--outputFile=${report}`,
    ...arguments_,
  ])
  if (!existsSync(report)) stop('The tests did not run to their end.')
  const counted = JSON.parse(readFileSync(report, 'utf8'))
  for (const name of Object.keys(totals)) totals[name] += counted[name]
  return ran
}

const named = process.argv.slice(2)
// A browser and all that it drives take the whole machine, as soaks do. What has servers of its own alone waits for them much of the time.
const ran =
  named.length > 0
    ? [tests('--runInBand', ...named)]
    : [tests('--runInBand', 'e2e/'), tests('--maxWorkers=3', '--testPathIgnorePatterns=/e2e/')]
const { numPassedTests, numFailedTests, numFailedTestSuites } = totals
if (broken.length > 0) process.stdout.write(`Not right: ${broken.join('; ')}.\n`)
if (numFailedTestSuites > 0 && numFailedTests === 0) process.stdout.write('A test file did not load.\n')
process.stdout.write(`${numPassedTests} passed, ${numFailedTests} failed\n`)
process.exit(ran.every(Boolean) && broken.length === 0 ? 0 : 1)
