// `npm test`: installs what is missing (Debian's packages too), checks types, lint and the dependency rule, runs all
// tests. The last line is the runner's own totals: `N passed, N failed`.
import { spawnSync } from 'node:child_process'
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
const broken = checks.filter(([, [command, ...args]]) => !run(command, args)).map(([name]) => name)

const report = join(mkdtempSync(join(tmpdir(), 'constant-tide-report-')), 'report.json')
// One at a time: the tests start servers and a browser of their own.
const ran = run(process.execPath, [
  '--experimental-vm-modules',
  '--no-warnings',
  'node_modules/jest/bin/jest.js',
  '--runInBand',
  // What a test has left open does not hold up the run.
  '--forceExit',
  '--json',
  `--outputFile=${report}`,
  ...process.argv.slice(2),
])
if (!existsSync(report)) stop('The tests did not run to their end.')
const { numPassedTests, numFailedTests, numFailedTestSuites } = JSON.parse(readFileSync(report, 'utf8'))
if (broken.length > 0) process.stdout.write(`Not right: ${broken.join('; ')}.\n`)
if (numFailedTestSuites > 0 && numFailedTests === 0) process.stdout.write('A test file did not load.\n')
process.stdout.write(`${numPassedTests} passed, ${numFailedTests} failed\n`)
process.exit(ran && broken.length === 0 ? 0 : 1)
