import { openBrowser } from './e2e/browser.ts'
import { writeFileSync } from 'node:fs'
const base = 'http://127.0.0.1:4700'
const driver = await openBrowser()
await driver.manage().window().setRect({ width: 1280, height: 800 })
const all = await (await fetch(base + '/api/pipelines')).json() as any[]
const id = all.find(p => p.definition.shape === 'two-way').id
const shot = async (name: string, path: string, js?: string, wait = 2500) => {
  await driver.get(base + path)
  await driver.sleep(wait)
  if (js) { await driver.executeScript(js); await driver.sleep(1500) }
  writeFileSync(`/tmp/x/${name}.png`, await driver.takeScreenshot(), 'base64')
}
const [what] = process.argv.slice(2)
const views: Record<string, () => Promise<void>> = {
  now: () => shot('now', `/pipelines/${id}`),
  pairs: () => shot('pairs', `/pipelines/${id}/pairs`, `document.querySelector('table[aria-label=Pairs] button[aria-expanded]').click()`),
  held: () => shot('held', `/pipelines/${id}/undecided`, `document.querySelector('ul button[aria-expanded]')?.click()`),
  setup: () => shot('setup', `/pipelines/${id}/change`, `document.querySelector('input[name=lane]:not(:checked)')?.click()`, 5000),
  map: () => shot('map', `/`),
  insetup: () => shot('insetup', `/pipelines/${id}/in-step`),
}
for (const v of (what ?? Object.keys(views).join()).split(',')) await views[v]!()
await driver.quit()
