/** Settings of every connection to a database server. */

export interface ServerSettings {
  host: string
  port: number
  database: string
  user: string
  password: string
  tls: 'off' | 'encrypt' | 'verify'
  tlsCa: string
  readingUser: string
  readingPassword: string
  screen?: string
}

export const serverDefaults = { password: '', tls: 'off', tlsCa: '', readingUser: '', readingPassword: '' }

/** Where a password goes, and as whose. */
export const PLACE_SETTINGS = ['host', 'port', 'database', 'user', 'readingUser', 'tls', 'tlsCa']

/** The settings with the account that questions of people and looks at rows go by. */
export function readingAccount<T extends ServerSettings>(settings: T): T {
  const { readingUser, readingPassword } = settings
  return readingUser === '' ? settings : { ...settings, user: readingUser, password: readingPassword }
}

/** With the port that such a server has usually, and what is to be said about its databases. */
export function serverProperties(port: number, database: object = {}) {
  return {
    host: { type: 'string', title: 'Host', minLength: 1, default: '127.0.0.1' },
    port: { type: 'integer', title: 'Port', minimum: 1, maximum: 65535, default: port },
    database: { type: 'string', title: 'Database', minLength: 1, ...database },
    user: { type: 'string', title: 'User', minLength: 1 },
    password: { type: 'string', title: 'Password', writeOnly: true, default: '' },
    readingUser: {
      type: 'string',
      title: 'Reading account: user',
      description:
        'Queries and looks at rows go by it, so that the system itself keeps them from writing. Empty: by the user above. The check has the script that makes one.',
      maxLength: 128,
      default: '',
      advanced: true,
    },
    readingPassword: {
      type: 'string',
      title: 'Reading account: password',
      writeOnly: true,
      default: '',
      advanced: true,
    },
    tls: {
      type: 'string',
      title: 'Encryption',
      enum: ['off', 'encrypt', 'verify'],
      enumTitles: ['none', 'TLS', 'TLS, and verify who answers'],
      default: 'off',
      advanced: true,
    },
    tlsCa: {
      type: 'string',
      title: 'Certificate authority',
      description: 'PEM text, when the server’s certificate is not signed by a public one.',
      default: '',
      multiline: true,
      advanced: true,
    },
  }
}

export const screenProperty = {
  type: 'string',
  title: 'Web address of its own screen',
  description: 'If people look after this system in a browser, a link to it is kept here.',
  pattern: '^(https?://.*)?$',
  advanced: true,
}

export function serverAddress({ host, port, database }: ServerSettings): string {
  return `${host}:${port}/${database}`
}

/** How a driver is told to encrypt; that the certificate is the host's is looked at besides. */
export function tlsOptions({
  tls,
  tlsCa,
}: ServerSettings): { rejectUnauthorized: boolean; ca?: string } | undefined {
  if (tls === 'off') return undefined
  if (tls === 'encrypt') return { rejectUnauthorized: false }
  return { rejectUnauthorized: true, ...(tlsCa.trim() === '' ? {} : { ca: tlsCa }) }
}
