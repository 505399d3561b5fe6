import { Failure } from '@tide/core/failure'
import type { ObjectStore } from '../object-store.ts'

/**
 * Keeps something beside the files, where that is allowed; what fails only for now is for whoever keeps it to try again. False: nothing can
 * be written there.
 */
export async function keepBeside(store: ObjectStore, path: string, body: string): Promise<boolean> {
  try {
    await store.replace(path, Buffer.from(body))
    return true
  } catch (thrown) {
    if (thrown instanceof Failure && thrown.kind === 'structural') return false
    throw thrown
  }
}
