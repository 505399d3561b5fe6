/** A certificate authority of the tests' own, and certificates that it signs for servers on loopback. */
import { spawnSync } from 'node:child_process'
import { chmodSync, chownSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'

export interface Certificates {
  /** PEM text of the authority. */
  authority: string
  /** Files of a certificate and its key, for `name` (an `IP:…` or a `DNS:…`), readable by one user of the system. */
  issue(name: string, owner: string): { cert: string; key: string }
  remove(): void
}

export function makeAuthority(): Certificates {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-certificates-'))
  chmodSync(folder, 0o755)
  const openssl = (...args: string[]) => {
    const done = spawnSync('openssl', args, { cwd: folder, encoding: 'utf8' })
    if (done.status !== 0)
      throw new Error(
        `openssl ${args[0]}: ${done.error?.message ?? done.stderr}. Install it: apt-get install openssl`,
      )
  }
  const newKey = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-days', '2']
  openssl('req', '-x509', ...newKey, '-keyout', 'ca.key', '-out', 'ca.pem', '-subj', '/CN=Osier Hill')
  let issued = 0
  return {
    authority: readFileSync(join(folder, 'ca.pem'), 'utf8'),
    issue: (name, owner) => {
      const n = issued++
      const [request, cert, key] = [`${n}.csr`, `${n}.pem`, `${n}.key`]
      writeFileSync(join(folder, `${n}.ext`), `subjectAltName=${name}`)
      openssl('req', '-new', ...newKey.slice(0, -2), '-keyout', key, '-out', request, '-subj', '/CN=a server')
      const signed = [
        '-CA',
        'ca.pem',
        '-CAkey',
        'ca.key',
        '-CAcreateserial',
        '-days',
        '2',
        '-extfile',
        `${n}.ext`,
      ]
      openssl('x509', '-req', '-in', request, '-out', cert, ...signed)
      if (process.getuid?.() === 0) {
        const id = (flag: string) => Number(spawnSync('id', [flag, owner], { encoding: 'utf8' }).stdout)
        chownSync(join(folder, key), id('-u'), id('-g'))
      }
      return { cert: join(folder, cert), key: join(folder, key) }
    },
    remove: () => rmSync(folder, { recursive: true, force: true }),
  }
}
