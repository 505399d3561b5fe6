/** `tide COMMAND [FILE | NAME] [--json] [--losses] [--to …] [--reason …] …`: the same API as the pages, from a terminal. TIDE_URL says where the server is. */
import type { LogQuery } from '@tide/core/definition/log'
import { Failure } from '@tide/core/failure'
import { parseArgs } from 'node:util'
import { COMMANDS } from './commands.ts'
import { Server } from './server.ts'

async function main(): Promise<number> {
  const { values, positionals } = parseArgs({
    allowPositionals: true,
    options: {
      json: { type: 'boolean', default: false },
      losses: { type: 'boolean', default: false },
      to: { type: 'string', default: '' },
      reason: { type: 'string', default: '' },
      text: { type: 'string' },
      level: { type: 'string' },
      lane: { type: 'string' },
      since: { type: 'string' },
      until: { type: 'string' },
      follow: { type: 'boolean', default: false },
      help: { type: 'boolean', default: false },
    },
  })
  const [name = '', about = ''] = positionals
  const command = Object.hasOwn(COMMANDS, name) ? COMMANDS[name]! : undefined
  const say = (text: string) => void process.stdout.write(`${text}\n`)
  if (values.help) {
    say(usage())
    return 0
  }
  if (!command || positionals.length > 2 || (about === '' && command.takes !== '[NAME]')) {
    process.stderr.write(`${usage()}\n`)
    return 1
  }
  const server = new Server(process.env.TIDE_URL ?? 'http://127.0.0.1:4600')
  const { json, losses, to, reason, follow, text, level, lane, since, until } = values
  const log = given({ text, level, lane, since, until })
  return command.run({ server, about, json, losses, to, reason, log, lane, follow, say })
}

/** What is not said is not asked for. */
function given(options: Record<string, string | undefined>): LogQuery {
  return Object.fromEntries(Object.entries(options).filter(([, value]) => value !== undefined))
}

function usage(): string {
  const lines = Object.entries(COMMANDS).map(
    ([name, { takes, does }]) => `  tide ${`${name} ${takes}`.padEnd(16)} ${does}`,
  )
  return ['Set TIDE_URL to the server; by default it is http://127.0.0.1:4600.', ...lines].join('\n')
}

main().then(
  code => (process.exitCode = code),
  (error: unknown) => {
    process.exitCode = 1
    const said = error instanceof Failure ? `${error.message} ${error.remedy}` : (error as Error).message
    process.stderr.write(`${said}\n`)
  },
)
