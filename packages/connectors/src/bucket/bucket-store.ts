/** A lake in a bucket of a store that speaks S3. */
import {
  DeleteObjectsCommand,
  GetObjectCommand,
  ListObjectsV2Command,
  type ListObjectsV2CommandOutput,
  PutObjectCommand,
  S3Client,
} from '@aws-sdk/client-s3'
import { Upload } from '@aws-sdk/lib-storage'
import { Failure } from '@tide/core/failure'
import { createWriteStream } from 'node:fs'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { ObjectStore, StoredFile } from '../lake/object-store.ts'
import type { BucketConfig } from './config.ts'
import { bucketFailure } from './errors.ts'

/** A file goes there in parts of this size, so many at once. */
const PART_BYTES = 8 * 2 ** 20
const PARTS_AT_ONCE = 2
/** What one request can delete. */
const DELETED_AT_ONCE = 1000
const CONNECT_WITHIN_MS = 10_000
const ANSWER_WITHIN_MS = 60_000
/** Tries of one request. */
const TRIES = 4

export class BucketStore implements ObjectStore {
  readonly where: string
  private readonly client: S3Client
  private readonly bucket: string
  private readonly prefix: string
  private readonly encrypted: { ServerSideEncryption?: 'AES256' }

  constructor(config: BucketConfig) {
    const { endpoint, region, bucket, prefix, accessKeyId, secretAccessKey, address, encryption } = config
    this.where = `${bucket}${prefix === '' ? '' : `/${prefix}`} at ${new URL(endpoint).host}`
    this.bucket = bucket
    this.prefix = prefix === '' ? '' : `${prefix}/`
    this.encrypted = encryption === 'AES256' ? { ServerSideEncryption: 'AES256' } : {}
    this.client = new S3Client({
      endpoint,
      region,
      credentials: { accessKeyId, secretAccessKey },
      forcePathStyle: address === 'path',
      maxAttempts: TRIES,
      requestHandler: { connectionTimeout: CONNECT_WITHIN_MS, requestTimeout: ANSWER_WITHIN_MS },
    })
  }

  put(path: string, body: AsyncIterable<Uint8Array>): Promise<void> {
    return this.told(async () => {
      const upload = new Upload({
        client: this.client,
        params: { ...this.at(path), ...this.encrypted, Body: Readable.from(body, { objectMode: false }) },
        partSize: PART_BYTES,
        queueSize: PARTS_AT_ONCE,
      })
      await upload.done()
    })
  }

  create(path: string, body: Uint8Array): Promise<boolean> {
    return this.told(async () => {
      try {
        await this.client.send(
          new PutObjectCommand({ ...this.at(path), ...this.encrypted, Body: body, IfNoneMatch: '*' }),
        )
        return true
      } catch (thrown) {
        const { name, $metadata } = thrown as { name: string; $metadata?: { httpStatusCode?: number } }
        if (name === 'PreconditionFailed' || $metadata?.httpStatusCode === 412) return false
        throw name === 'NotImplemented' ? notConditional(this.where, thrown) : thrown
      }
    })
  }

  replace(path: string, body: Uint8Array): Promise<void> {
    return this.told(async () => {
      await this.client.send(new PutObjectCommand({ ...this.at(path), ...this.encrypted, Body: body }))
    })
  }

  read(path: string): Promise<Uint8Array | undefined> {
    return this.told(async () => {
      try {
        const { Body } = await this.client.send(new GetObjectCommand(this.at(path)))
        return await Body!.transformToByteArray()
      } catch (thrown) {
        if ((thrown as Error).name === 'NoSuchKey') return undefined
        throw thrown
      }
    })
  }

  uri(path: string): string {
    return `s3://${this.bucket}/${this.prefix}${path}`
  }

  fetch(path: string, to: string): Promise<void> {
    return this.told(async () => {
      const { Body } = await this.client.send(new GetObjectCommand(this.at(path)))
      await pipeline(Body as Readable, createWriteStream(to))
    })
  }

  async *list(folder: string, after?: string): AsyncGenerator<string> {
    let token: string | undefined
    do {
      const page = await this.told(() =>
        this.client.send(
          new ListObjectsV2Command({
            Bucket: this.bucket,
            Prefix: `${this.prefix}${folder}`,
            ...(token === undefined ? {} : { ContinuationToken: token }),
            ...(after === undefined ? {} : { StartAfter: `${this.prefix}${after}` }),
          }),
        ),
      )
      for (const { Key } of page.Contents ?? []) yield Key!.slice(this.prefix.length)
      token = page.IsTruncated ? page.NextContinuationToken : undefined
    } while (token !== undefined)
  }

  async folders(folder: string): Promise<string[]> {
    const found: string[] = []
    for await (const { CommonPrefixes = [] } of this.within(folder))
      for (const { Prefix } of CommonPrefixes)
        found.push(Prefix!.slice(this.prefix.length + folder.length, -1))
    return found
  }

  async files(folder: string): Promise<StoredFile[]> {
    const found: StoredFile[] = []
    for await (const { Contents = [] } of this.within(folder))
      for (const { Key, Size = 0, LastModified } of Contents)
        found.push({
          path: Key!.slice(this.prefix.length),
          bytes: Size,
          at: (LastModified ?? new Date(0)).toISOString(),
        })
    return found
  }

  /** Page by page, what is directly in a folder. */
  private async *within(folder: string): AsyncGenerator<ListObjectsV2CommandOutput> {
    let token: string | undefined
    do {
      const page = await this.told(() =>
        this.client.send(
          new ListObjectsV2Command({
            Bucket: this.bucket,
            Prefix: `${this.prefix}${folder}`,
            Delimiter: '/',
            ...(token === undefined ? {} : { ContinuationToken: token }),
          }),
        ),
      )
      yield page
      token = page.IsTruncated ? page.NextContinuationToken : undefined
    } while (token !== undefined)
  }

  async remove(paths: readonly string[]): Promise<void> {
    for (let at = 0; at < paths.length; at += DELETED_AT_ONCE) {
      const some = paths.slice(at, at + DELETED_AT_ONCE)
      await this.told(async () => {
        const { Errors = [] } = await this.client.send(
          new DeleteObjectsCommand({
            Bucket: this.bucket,
            Delete: { Objects: some.map(path => ({ Key: this.at(path).Key })), Quiet: true },
          }),
        )
        const [first] = Errors
        if (first) throw Object.assign(new Error(first.Message ?? first.Code), { name: first.Code })
      })
    }
  }

  close(): Promise<void> {
    this.client.destroy()
    return Promise.resolve()
  }

  private at(path: string): { Bucket: string; Key: string } {
    return { Bucket: this.bucket, Key: `${this.prefix}${path}` }
  }

  private async told<T>(body: () => Promise<T>): Promise<T> {
    try {
      return await body()
    } catch (thrown) {
      throw bucketFailure(thrown, this.where)
    }
  }
}

export function notConditional(where: string, cause?: unknown): Failure {
  return new Failure(
    'structural',
    `${where} cannot make a file only if there is none, by which two writers are kept apart.`,
    'Choose a store that knows If-None-Match, or a folder.',
    cause,
  )
}
