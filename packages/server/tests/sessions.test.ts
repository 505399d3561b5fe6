import { expect, jest, test } from '@jest/globals'
import type { Session } from '@tide/connectors/contract/session'
import { SessionCache } from '../src/sessions.ts'

/** Sessions that say when they are closed, and that cannot be closed twice. */
function opener() {
  const log: string[] = []
  let opened = 0
  let fault: Error | undefined
  const open = async (id: string): Promise<Session> => {
    const name = `${id}${++opened}`
    if (fault) throw fault
    log.push(`open ${name}`)
    let closed = false
    return {
      name,
      catalogue: async () => ({ schemas: [`${name} ${log.push('catalogue')}`], datasets: [] }),
      close: async () => {
        if (closed) throw new Error('closed twice')
        closed = true
        log.push(`close ${name}`)
      },
    } as unknown as Session
  }
  const cache = new SessionCache({ open, describe: async () => undefined }, id => log.push(`forget ${id}`))
  return { log, cache, fail: (error: Error | undefined) => void (fault = error) }
}

const nameOf = async (session: Session) => (session as unknown as { name: string }).name
const gate = () => {
  let open = () => {}
  const wait = new Promise<void>(resolve => (open = resolve))
  return { open, wait }
}

test('one session serves all who come, and is closed a while after the last', async () => {
  jest.useFakeTimers()
  try {
    const { cache, log } = opener()
    const { open, wait } = gate()
    const slow = cache.use('a', async session => (await wait, nameOf(session)))
    expect(await cache.use('a', nameOf)).toBe('a1')
    await jest.advanceTimersByTimeAsync(60_000)
    expect(log).toEqual(['open a1'])
    open()
    expect(await slow).toBe('a1')
    await jest.advanceTimersByTimeAsync(29_000)
    expect(await cache.use('a', nameOf)).toBe('a1')
    await jest.advanceTimersByTimeAsync(29_000)
    expect(log).toEqual(['open a1'])
    await jest.advanceTimersByTimeAsync(2_000)
    expect(log).toEqual(['open a1', 'close a1'])
    expect(await cache.use('a', nameOf)).toBe('a2')
    await cache.close()
  } finally {
    jest.useRealTimers()
  }
})

test('after the settings changed, who is at work ends with the old session, and it is closed once', async () => {
  const { cache, log } = opener()
  const { open, wait } = gate()
  const slow = cache.use('a', async session => (await wait, nameOf(session)))
  await cache.renew('a')
  expect(await cache.use('a', nameOf)).toBe('a2')
  expect(log).toEqual(['open a1', 'forget a', 'open a2'])
  open()
  expect(await slow).toBe('a1')
  expect(log.slice(3)).toEqual(['close a1'])
  await cache.close()
  expect(log.slice(4)).toEqual(['close a2'])
})

test('what could not be opened is tried anew, and does not take a later one with it', async () => {
  const { cache, fail } = opener()
  fail(new Error('Nothing answers.'))
  const first = cache.use('a', nameOf)
  await expect(first).rejects.toThrow('Nothing answers.')
  const failing = cache.use('a', nameOf)
  await cache.renew('a')
  fail(undefined)
  const next = cache.use('a', nameOf)
  await expect(failing).rejects.toThrow('Nothing answers.')
  const name = await next
  expect(await cache.use('a', nameOf)).toBe(name)
  await cache.close()
})

test('a catalogue is read once for those who ask within seconds, and anew when that is wanted', async () => {
  const { cache } = opener()
  const [one, two] = await Promise.all([cache.catalogue('a', false), cache.catalogue('a', false)])
  expect(two).toBe(one)
  expect(await cache.catalogue('a', false)).toBe(one)
  expect(await cache.catalogue('a', true)).not.toBe(one)
  await cache.close()
})

test('closing closes what is in use, too', async () => {
  const { cache, log } = opener()
  const { open, wait } = gate()
  const slow = cache.use('a', () => wait)
  await cache.use('b', nameOf)
  await cache.close()
  open()
  await slow
  expect(log).toEqual(['open a1', 'open b2', 'close a1', 'close b2'])
})
