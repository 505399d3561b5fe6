/** Which file a path means. */
import { readlinkSync, statSync, type BigIntStats } from 'node:fs'
import { basename, dirname, resolve } from 'node:path'

const MOST_LINKS = 40

/**
 * Equal for paths of one file, whatever links lie between: device and inode; of a file that is not there yet, those of its
 * folder, and its name.
 */
export function fileIdentity(path: string): string {
  let at = resolve(path)
  for (let links = 0; ; links++) {
    const there = statOf(at)
    if (there) return `${there.dev}:${there.ino}`
    const link = targetOf(at)
    if (link === undefined || links === MOST_LINKS) break
    at = resolve(dirname(at), link)
  }
  const folder = dirname(at)
  return folder === at ? at : `${fileIdentity(folder)}/${basename(at)}`
}

/** Undefined where nothing is, or nothing can be. */
function statOf(path: string): BigIntStats | undefined {
  try {
    return statSync(path, { bigint: true })
  } catch {
    return undefined
  }
}

function targetOf(path: string): string | undefined {
  try {
    return readlinkSync(path)
  } catch {
    return undefined
  }
}
