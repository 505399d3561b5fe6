import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { createHmac } from 'node:crypto'
import { keyedHash } from '../src/keyed-hash.ts'

test('the keyed hash is HMAC-SHA-256, also of long texts and of what follows them', () => {
  const texts = fc.array(
    fc.oneof(
      fc.string({ unit: 'grapheme' }),
      fc.integer({ min: 1000, max: 9000 }).map(length => 'ä'.repeat(length)),
    ),
  )
  fc.assert(
    fc.property(fc.uint8Array({ minLength: 0, maxLength: 64 }), texts, (key, values) => {
      const hash = keyedHash(key)
      for (const value of values)
        expect(hash(value)).toBe(createHmac('sha256', key).update(value).digest('hex'))
    }),
  )
})
