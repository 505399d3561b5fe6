/** Keys that the application makes for itself. They are in the store, sealed, so that all its processes have the same. */
import { eq } from 'drizzle-orm'
import { randomBytes } from 'node:crypto'
import type { Database } from './database.ts'
import { sealedKey } from './schema.ts'
import type { Seal } from './seal.ts'

const KEY_BYTES = 32

/** The key of that name, made at its first use. */
export async function keyCalled(db: Database, seal: Seal, name: string): Promise<Uint8Array> {
  const sealed = seal.close(randomBytes(KEY_BYTES).toString('hex'))
  await db.insert(sealedKey).values({ name, sealed }).onConflictDoNothing()
  const [row] = await db.select().from(sealedKey).where(eq(sealedKey.name, name))
  return Buffer.from(seal.open(row!.sealed), 'hex')
}
