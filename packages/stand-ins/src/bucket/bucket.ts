/** A small store of objects that speaks as much of S3 as its clients use, over HTTP, with one bucket. */
import { randomUUID } from 'node:crypto'
import { createServer, ServerResponse, type IncomingMessage, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { bodyOf, checksumOf } from './body.ts'
import { NO_FAULTS, type Faults } from './faults.ts'
import { Objects, type ObjectInfo } from './objects.ts'
import { checkSignature, Refused, type Keys } from './signature.ts'

export interface BucketOptions extends Keys {
  bucket: string
  folder: string
  port: number
  /** Its clock is so much ahead. */
  aheadMs?: number
  random?: () => number
}

interface Asked {
  request: IncomingMessage
  response: ServerResponse
  key: string
  query: URLSearchParams
  body: Buffer
}

const PAGE = 1000

export class StandInBucket {
  readonly objects: Objects
  faults: Faults = { ...NO_FAULTS }
  private readonly options: BucketOptions
  private readonly uploads = new Map<string, { key: string; parts: Map<number, Buffer> }>()
  private readonly server: Server

  constructor(options: BucketOptions) {
    this.options = options
    this.objects = new Objects(options.folder)
    this.server = createServer((request, response) => void this.answer(request, response))
  }

  async listen(): Promise<string> {
    await new Promise<void>(resolve => this.server.listen(this.options.port, '127.0.0.1', resolve))
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`
  }

  async close(): Promise<void> {
    this.server.closeAllConnections()
    await new Promise(resolve => this.server.close(resolve))
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { faults, options } = this
    const random = options.random ?? Math.random
    const now = Date.now() + (options.aheadMs ?? 0)
    response.setHeader('Date', new Date(now).toUTCString())
    try {
      const { method = '', url = '/', headers } = request
      checkSignature({ method, url, headers }, options, now)
      const body = await bodyOf(request)
      if (faults.slowMs > 0) await new Promise(resolve => setTimeout(resolve, faults.slowMs))
      if (random() < faults.failing) throw new Refused(500, 'InternalError', 'Something went wrong.')
      const { pathname, searchParams: query } = new URL(url, 'http://store')
      const [, bucket, ...key] = pathname.split('/').map(decodeURIComponent)
      if (bucket !== options.bucket) throw new Refused(404, 'NoSuchBucket', 'There is no such bucket.')
      const lost = random() < faults.lost
      const into = lost ? new ServerResponse(request) : response
      this.carryOut({ request, response: into, key: key.join('/'), query, body })
      if (lost) request.socket.destroy()
      else if (!response.writableEnded) response.end()
    } catch (thrown) {
      const { status, code, message } =
        thrown instanceof Refused ? thrown : new Refused(500, 'InternalError', String(thrown))
      // What is not read would be taken for the next request.
      request.resume()
      response.statusCode = status
      xml(response, 'Error', `<Code>${code}</Code><Message>${escaped(message)}</Message>`)
      response.end()
    }
  }

  private carryOut(asked: Asked): void {
    const { request, response, key, query, body } = asked
    const { method } = request
    if (key === '') {
      if (method === 'GET') return this.list(asked)
      if (method === 'HEAD') return
      if (method === 'POST' && query.has('delete')) return this.removeMany(asked)
      throw new Refused(501, 'NotImplemented', 'That is not known here.')
    }
    switch (method) {
      case 'PUT':
        this.refuseWriting()
        if (query.has('uploadId')) return this.putPart(asked)
        this.checkConditions(asked)
        response.setHeader('ETag', this.objects.put(key, body).etag)
        response.setHeader('x-amz-checksum-crc32', checksumOf(body))
        return
      case 'GET':
      case 'HEAD':
        return this.get(asked)
      case 'DELETE':
        if (query.has('uploadId')) return void this.uploads.delete(query.get('uploadId')!)
        this.refuseDeleting()
        this.objects.remove(key)
        response.statusCode = 204
        return
      case 'POST':
        this.refuseWriting()
        return query.has('uploads') ? this.beginUpload(asked) : this.endUpload(asked)
      default:
        throw new Refused(501, 'NotImplemented', 'That is not known here.')
    }
  }

  private checkConditions({ request: { headers }, key }: Asked): void {
    const [none, match] = [headers['if-none-match'], headers['if-match']]
    if (none === undefined && match === undefined) return
    if (this.faults.plain) throw new Refused(501, 'NotImplemented', 'Conditions are not known here.')
    const there = this.objects.info(key)
    if ((none !== undefined && there) || (match !== undefined && there?.etag !== match))
      throw new Refused(412, 'PreconditionFailed', 'What was asked for is not so.')
  }

  private get({ request, response, key }: Asked): void {
    const info = this.objects.info(key)
    if (!info) throw new Refused(404, 'NoSuchKey', `There is no ${key}.`)
    response.setHeader('ETag', info.etag)
    response.setHeader('Last-Modified', info.modified.toUTCString())
    if (request.headers['if-none-match'] === info.etag) {
      response.statusCode = 304
      return
    }
    const body = this.objects.get(key)
    const [, from, to] = /^bytes=(\d+)-(\d*)$/.exec(request.headers.range ?? '') ?? []
    const part =
      from === undefined ? body : body.subarray(Number(from), to === '' ? undefined : Number(to) + 1)
    if (from !== undefined) {
      response.statusCode = 206
      response.setHeader('Content-Range', `bytes ${from}-${Number(from) + part.length - 1}/${body.length}`)
    } else if (request.method === 'GET') response.setHeader('x-amz-checksum-crc32', checksumOf(body))
    response.setHeader('Content-Length', part.length)
    response.end(request.method === 'HEAD' ? undefined : part)
  }

  private list({ response, query }: Asked): void {
    const prefix = query.get('prefix') ?? ''
    const delimiter = query.get('delimiter') ?? ''
    const most = Math.min(PAGE, Number(query.get('max-keys') ?? PAGE))
    const token = query.get('continuation-token')
    const after =
      token === null ? (query.get('start-after') ?? '') : Buffer.from(token, 'base64url').toString()
    const found: ({ info: ObjectInfo } | { folder: string })[] = []
    let last = ''
    let cut = false
    for (const info of this.objects.all()) {
      const { key } = info
      if (!key.startsWith(prefix) || Buffer.compare(Buffer.from(key), Buffer.from(after)) <= 0) continue
      const end = delimiter === '' ? -1 : key.indexOf(delimiter, prefix.length)
      const folder = end < 0 ? undefined : key.slice(0, end + delimiter.length)
      if (
        folder !== undefined &&
        (found.some(one => 'folder' in one && one.folder === folder) || after.startsWith(folder))
      ) {
        last = key
        continue
      }
      if (found.length === most) {
        cut = true
        break
      }
      found.push(folder === undefined ? { info } : { folder })
      last = key
    }
    const parts = found.map(one =>
      'folder' in one
        ? `<CommonPrefixes><Prefix>${escaped(one.folder)}</Prefix></CommonPrefixes>`
        : `<Contents><Key>${escaped(one.info.key)}</Key><LastModified>${one.info.modified.toISOString()}</LastModified><ETag>${escaped(one.info.etag)}</ETag><Size>${one.info.bytes}</Size></Contents>`,
    )
    const next = cut
      ? `<NextContinuationToken>${Buffer.from(last).toString('base64url')}</NextContinuationToken>`
      : ''
    xml(
      response,
      'ListBucketResult',
      `<Name>${this.options.bucket}</Name><Prefix>${escaped(prefix)}</Prefix><KeyCount>${found.length}</KeyCount><IsTruncated>${cut}</IsTruncated>${next}${parts.join('')}`,
    )
  }

  private removeMany({ response, body }: Asked): void {
    this.refuseDeleting()
    for (const [, key] of body.toString().matchAll(/<Key>([^<]*)<\/Key>/g))
      this.objects.remove(unescaped(key!))
    xml(response, 'DeleteResult', '')
  }

  private beginUpload({ response, key }: Asked): void {
    const id = randomUUID()
    this.uploads.set(id, { key, parts: new Map() })
    const { bucket } = this.options
    xml(
      response,
      'InitiateMultipartUploadResult',
      `<Bucket>${bucket}</Bucket><Key>${escaped(key)}</Key><UploadId>${id}</UploadId>`,
    )
  }

  private putPart({ response, query, body }: Asked): void {
    const upload = this.uploads.get(query.get('uploadId')!)
    if (!upload) throw new Refused(404, 'NoSuchUpload', 'There is no such upload.')
    upload.parts.set(Number(query.get('partNumber')), body)
    response.setHeader('ETag', `"${checksumOf(body)}"`)
    response.setHeader('x-amz-checksum-crc32', checksumOf(body))
  }

  private endUpload(asked: Asked): void {
    const { response, key, query, body } = asked
    const id = query.get('uploadId')!
    const upload = this.uploads.get(id)
    if (!upload) throw new Refused(404, 'NoSuchUpload', 'There is no such upload.')
    this.checkConditions(asked)
    const parts = [...body.toString().matchAll(/<PartNumber>(\d+)<\/PartNumber>/g)].map(([, number]) => {
      const part = upload.parts.get(Number(number))
      if (!part) throw new Refused(400, 'InvalidPart', `Part ${number} is not there.`)
      return part
    })
    const { etag } = this.objects.put(key, Buffer.concat(parts))
    this.uploads.delete(id)
    xml(
      response,
      'CompleteMultipartUploadResult',
      `<Bucket>${this.options.bucket}</Bucket><Key>${escaped(key)}</Key><ETag>${escaped(etag)}</ETag>`,
    )
  }

  private refuseWriting(): void {
    if (this.faults.full) throw new Refused(507, 'InsufficientStorage', 'There is no room left.')
  }

  private refuseDeleting(): void {
    if (this.faults.keeps) throw new Refused(403, 'AccessDenied', 'Nothing may be deleted with this key.')
  }
}

const ESCAPES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' }
const escaped = (text: string) => text.replace(/[&<>"]/g, sign => ESCAPES[sign]!)
const unescaped = (text: string) =>
  text.replace(
    /&(amp|lt|gt|quot|apos);/g,
    (_, name: string) => ({ amp: '&', lt: '<', gt: '>', quot: '"', apos: "'" })[name]!,
  )

function xml(response: ServerResponse, name: string, inner: string): void {
  response.setHeader('Content-Type', 'application/xml')
  response.end(
    `<?xml version="1.0" encoding="UTF-8"?><${name} xmlns="http://s3.amazonaws.com/doc/2006-03-01/">${inner}</${name}>`,
  )
}
