/** Whether a webhook comes from the app that was told where to call. */
import type { WebhookSigning } from '@tide/core/app/description'
import { createHmac, timingSafeEqual } from 'node:crypto'

/** A signed time is believed for so long, both ways. */
const MOST_OFF_MS = 300_000

/** `secret`: as the app was told it. `now`: milliseconds. */
export function isSigned(
  signing: WebhookSigning,
  { secret, body, now }: { secret: string; body: string; now: number },
  headerOf: (name: string) => string,
): boolean {
  const mac = (text: string) => createHmac('sha256', secret).update(text)
  if (signing.by === 'hmac sha256')
    return same(headerOf(signing.header), (signing.before ?? '') + mac(body).digest('hex'))
  // https://github.com/standard-webhooks/standard-webhooks/blob/main/spec/standard-webhooks.md
  const [id, at] = [headerOf('webhook-id'), headerOf('webhook-timestamp')]
  if (id === '' || at === '' || !(Math.abs(Number(at) * 1000 - now) <= MOST_OFF_MS)) return false
  const wanted = `v1,${mac(`${id}.${at}.${body}`).digest('base64')}`
  return headerOf('webhook-signature')
    .split(' ')
    .some(one => same(one, wanted))
}

function same(one: string, other: string): boolean {
  const [a, b] = [Buffer.from(one), Buffer.from(other)]
  return a.length === b.length && timingSafeEqual(a, b)
}
