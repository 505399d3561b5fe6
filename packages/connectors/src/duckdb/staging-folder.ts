/** Folders for rows on their way into DuckDB files: each open file has its own, and nobody else may look into it. */
import { mkdtemp, readdir, rm } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

const PREFIX = 'constant-tide-staging-'

let swept: Promise<void> | undefined

export async function makeStaging(): Promise<string> {
  await (swept ??= sweep())
  return mkdtemp(join(tmpdir(), `${PREFIX}${process.pid}-`))
}

/** Takes away what processes that were killed have left. Others' folders are not ours to remove, and stay. */
async function sweep(): Promise<void> {
  for (const name of await readdir(tmpdir())) {
    const [, id] = /^constant-tide-staging-(\d+)-\w+$/.exec(name) ?? []
    if (id === undefined || isAlive(Number(id))) continue
    await rm(join(tmpdir(), name), { recursive: true, force: true }).catch(() => {})
  }
}

function isAlive(processId: number): boolean {
  try {
    process.kill(processId, 0)
    return true
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'EPERM'
  }
}
