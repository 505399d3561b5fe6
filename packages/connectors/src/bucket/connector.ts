import { Failure, messageOf } from '@tide/core/failure'
import type { CheckItem } from '@tide/core/api/browse'
import { randomUUID } from 'node:crypto'
import type { Config, Connector, Session } from '../contract/session.ts'
import { typesOf } from '../lake/files/types-setting.ts'
import { lakeSession } from '../lake/session.ts'
import { BucketStore, notConditional } from './bucket-store.ts'
import { configSchema, settings, type BucketConfig } from './config.ts'

/** Stores refuse what was signed longer ago than a quarter of an hour. */
const MOST_SKEW_SECONDS = 5 * 60

async function open(config: Config): Promise<Session> {
  return Promise.resolve(lakeSession(new BucketStore(settings(config)), [], typesOf(config)))
}

/** Goes through all that is done there, with a file of its own that it takes away again. */
async function* check(config: Config): AsyncGenerator<CheckItem> {
  const asked = settings(config)
  const store = new BucketStore(asked)
  const path = `_constant_tide/test-${randomUUID()}`
  const body = Buffer.from('constant tide\n')
  const paste = policyOf(asked)
  try {
    yield* item('List files', paste, async () => {
      const folders = await store.folders('')
      return `${folders.length} folders`
    })
    const skew = await clockSkew(asked)
    if (skew !== undefined && Math.abs(skew) > MOST_SKEW_SECONDS)
      yield {
        what: 'Compare clocks',
        result: 'warning',
        found: `The store’s clock is ${Math.round(skew)} s ahead of ours.`,
        remedy: 'Have this machine’s clock kept by a time service: stores refuse what seems old.',
      }
    yield* item('Write a file', paste, async () => {
      if (!(await store.create(path, body))) throw new Error('a file that nobody knows is there already')
      return path
    })
    yield* item('Write a file only once', undefined, async () => {
      if (await store.create(path, body)) throw notConditional(store.where)
      return 'The second time was refused, as it should be.'
    })
    yield* item('Read it back', paste, async () => {
      const read = await store.read(path)
      if (!read || Buffer.compare(read, body) !== 0) throw new Error('it is not what was written')
      return `${read.length} bytes`
    })
    yield* item('Delete it', paste, async () => {
      await store.remove([path])
      if (await store.read(path)) throw new Error('it is there still')
      return 'It is gone.'
    })
  } catch (thrown) {
    if (!(thrown instanceof Told)) throw thrown
  } finally {
    await store.close()
  }
}

/** What comes after it is not tried. */
class Told extends Error {}

async function* item(
  what: string,
  paste: string | undefined,
  body: () => Promise<string>,
): AsyncGenerator<CheckItem> {
  try {
    yield { what, result: 'ok', found: await body() }
  } catch (thrown) {
    const remedy = thrown instanceof Failure ? thrown.remedy : 'Look at the store.'
    const denied = /may not do that/.test(messageOf(thrown))
    yield {
      what,
      result: 'failed',
      found: messageOf(thrown),
      remedy,
      ...(denied && paste !== undefined ? { paste } : {}),
    }
    throw new Told()
  }
}

/** By how many seconds the store's clock is ahead; undefined: it does not say. */
async function clockSkew({ endpoint }: BucketConfig): Promise<number | undefined> {
  const began = Date.now()
  const date = await fetch(endpoint, { method: 'HEAD', signal: AbortSignal.timeout(5_000) }).then(
    ({ headers }) => headers.get('date'),
    () => null,
  )
  return date === null ? undefined : (Date.parse(date) - (began + Date.now()) / 2) / 1000
}

/** The least rights that are needed, as stores of this kind take them. */
function policyOf({ bucket, prefix }: BucketConfig): string {
  const within = prefix === '' ? '' : `${prefix}/`
  return JSON.stringify(
    {
      Version: '2012-10-17',
      Statement: [
        {
          Effect: 'Allow',
          Action: ['s3:ListBucket'],
          Resource: [`arn:aws:s3:::${bucket}`],
          ...(within === '' ? {} : { Condition: { StringLike: { 's3:prefix': [`${within}*`] } } }),
        },
        {
          Effect: 'Allow',
          Action: ['s3:GetObject', 's3:PutObject', 's3:DeleteObject', 's3:AbortMultipartUpload'],
          Resource: [`arn:aws:s3:::${bucket}/${within}*`],
        },
      ],
    },
    null,
    2,
  )
}

export const bucket: Connector = {
  kind: 'bucket',
  title: 'Object storage',
  summary:
    'A bucket of a store that speaks S3: change files and merged tables in open formats, or files that others put there.',
  band: 'files',
  roles: ['source', 'target'],
  configSchema,
  questionsAtOnce: 1,
  placeSettings: ['endpoint', 'bucket', 'accessKeyId'],
  fixedWhileFollowed: [],
  identity: config => {
    const { endpoint, bucket, prefix } = settings(config)
    return `${new URL(endpoint).host}/${bucket}/${prefix}`
  },
  address: config => {
    const { endpoint, bucket, prefix } = settings(config)
    return `${new URL(endpoint).host}/${bucket}${prefix === '' ? '' : `/${prefix}`}`
  },
  check,
  open,
}
