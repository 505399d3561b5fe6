import { openBrowser } from './e2e/browser.ts'
import { writeFileSync } from 'node:fs'
const [out, path, ...steps] = process.argv.slice(2)
const driver: any = await (openBrowser as any)()
try {
  await driver.manage().window().setRect({ width: 1280, height: 800 })
  await driver.get(path!.startsWith('http') ? path! : `http://127.0.0.1:4700${path}`)
  await new Promise(r => setTimeout(r, 2500))
  for (const step of steps) {
    if (/^\d+$/.test(step)) await new Promise(r => setTimeout(r, Number(step)))
    else console.log(await driver.executeScript(step))
  }
  writeFileSync(out!, Buffer.from(await driver.takeScreenshot(), 'base64'))
} finally { await driver.quit() }
