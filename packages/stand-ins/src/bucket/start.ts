/** The stand-in bucket with its screen, where it was left. */
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import type { BucketAccess } from '../demo.ts'
import { freePorts, listen } from '../ports.ts'
import { StandInBucket } from './bucket.ts'
import { createBucketScreen } from './screen.ts'

const KEYS = { accessKeyId: 'osier', secretAccessKey: 'willow-and-water' }
const NAME = 'growers'

/** `ports`: those that are wanted; others are taken at the first start when these are not free. */
export async function startBucket(
  folder: string,
  wanted: { store: number; screen: number },
): Promise<BucketAccess> {
  mkdirSync(folder, { recursive: true })
  const memory = join(folder, 'bucket.json')
  const ports = keptIn(memory) ?? (await freePorts(wanted))
  writeFileSync(memory, JSON.stringify(ports))
  const bucket = new StandInBucket({
    ...KEYS,
    bucket: NAME,
    folder: join(folder, 'objects'),
    port: ports.store,
  })
  const endpoint = await bucket.listen()
  const screen = createBucketScreen({ name: NAME, bucket, endpoint, keys: KEYS })
  await listen(screen, ports.screen, 'the bucket')
  return {
    config: { ...KEYS, endpoint, bucket: NAME, prefix: 'lake' },
    screen: `http://127.0.0.1:${ports.screen}/`,
  }
}

function keptIn(memory: string): { store: number; screen: number } | undefined {
  try {
    return JSON.parse(readFileSync(memory, 'utf8')) as { store: number; screen: number }
  } catch {
    return undefined // the first time
  }
}
