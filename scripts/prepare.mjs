// Installs what is missing and builds what is stale. Uses nothing but Node, so that it runs on a fresh clone.
import { spawnSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

const ROOT = new URL('..', import.meta.url).pathname

function* files(folder) {
  for (const entry of readdirSync(join(ROOT, folder), { withFileTypes: true })) {
    if (['node_modules', 'dist', 'tests'].includes(entry.name)) continue
    const path = join(folder, entry.name)
    if (entry.isDirectory()) yield* files(path)
    else yield path
  }
}

const digest = paths => {
  const hash = createHash('sha256')
  for (const path of paths) hash.update(path).update(readFileSync(join(ROOT, path)))
  return hash.digest('hex')
}

function upToDate(stamp, paths, what, make) {
  const now = digest(paths)
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === now) return
  const began = Date.now()
  process.stdout.write(`${what} …\n`)
  make()
  writeFileSync(stamp, digest(paths)) // installing may complete the lock file
  process.stdout.write(`${what}: ${((Date.now() - began) / 1000).toFixed(1)} s\n`)
}

function run(command, args) {
  const { status } = spawnSync(command, args, { cwd: ROOT, stdio: 'inherit' })
  if (status !== 0) {
    process.stderr.write(`“${command} ${args.join(' ')}” failed; see above.\n`)
    process.exit(1)
  }
}

export function install() {
  const [major, minor] = process.versions.node.split('.').map(Number)
  if (major < 20 || (major === 20 && minor < 19)) {
    process.stderr.write(`Node ${process.versions.node} is too old. Install Node 20.19 or later.\n`)
    process.exit(1)
  }
  const manifests = readdirSync(join(ROOT, 'packages')).map(name => `packages/${name}/package.json`)
  const paths = ['package.json', 'package-lock.json', ...manifests].filter(path =>
    statSync(join(ROOT, path), { throwIfNoEntry: false }),
  )
  upToDate(join(ROOT, 'node_modules/.installed'), paths, 'Installing packages', () =>
    run('npm', ['install', '--loglevel=error', '--no-progress']),
  )
}

export function build() {
  upToDate(join(ROOT, 'dist/.built'), [...files('packages'), 'scripts/build.mjs'], 'Building', () =>
    run(process.execPath, ['scripts/build.mjs']),
  )
}
