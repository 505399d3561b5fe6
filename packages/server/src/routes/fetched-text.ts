/** A text that lies at an address on the web, such as the description of an app, fetched for the form that it goes into. */
import type Router from '@koa/router'
import { Failure, messageOf } from '@tide/core/failure'
import { valid } from '../validate.ts'

const WITHIN_MS = 15_000
const MOST_BYTES = 500_000

const schema = {
  type: 'object',
  required: ['address'],
  additionalProperties: false,
  properties: {
    address: { type: 'string', title: 'Address', pattern: '^https?://[^\\s]+$', maxLength: 2_000 },
  },
}

export function fetchedTextRoutes(router: Router): void {
  router.post('/fetched-text', async ctx => {
    const { address } = valid<{ address: string }>(schema, ctx.request.body, 'Fetch')
    ctx.body = { text: await textAt(address) }
  })
}

async function textAt(address: string): Promise<string> {
  const refuse = (why: string) =>
    new Failure(
      'refused',
      `${address} cannot be fetched: ${why}.`,
      'See that it is right, or paste the text.',
    )
  const response = await fetch(address, { signal: AbortSignal.timeout(WITHIN_MS) }).catch(
    (thrown: unknown) => {
      const { cause } = thrown as { cause?: unknown }
      throw refuse(messageOf(cause ?? thrown))
    },
  )
  if (!response.ok) throw refuse(`it was answered with ${response.status}`)
  const parts: Uint8Array[] = []
  let bytes = 0
  for await (const part of (response.body ?? []) as AsyncIterable<Uint8Array>) {
    bytes += part.length
    if (bytes > MOST_BYTES) throw refuse(`it has more than ${MOST_BYTES.toLocaleString('en')} bytes`)
    parts.push(part)
  }
  return Buffer.concat(parts).toString('utf8')
}
