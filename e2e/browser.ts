/** Debian's Chromium, headless, at 1280×800. */
import { mkdtemp } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Builder, type WebDriver } from 'selenium-webdriver'
import chrome from 'selenium-webdriver/chrome.js'

const FLAGS =
  '--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync --disable-dev-shm-usage --force-color-profile=srgb --hide-scrollbars --window-size=1280,800'

/** `more`: further flags. */
export async function openBrowser(more: readonly string[] = []): Promise<WebDriver> {
  process.env.SE_OFFLINE = 'true'
  const profile = await mkdtemp(join(tmpdir(), 'constant-tide-browser-'))
  const options = new chrome.Options()
  options.setChromeBinaryPath('/usr/bin/chromium')
  options.addArguments(...FLAGS.split(' '), ...more, `--user-data-dir=${profile}`)
  const driver = await new Builder()
    .forBrowser('chrome')
    .setChromeOptions(options)
    .setChromeService(new chrome.ServiceBuilder('/usr/bin/chromedriver'))
    .build()
  await (driver as chrome.Driver).sendDevToolsCommand('Emulation.setDeviceMetricsOverride', {
    width: 1280,
    height: 800,
    deviceScaleFactor: 1,
    mobile: false,
  })
  return driver
}
