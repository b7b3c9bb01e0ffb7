import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import type { DetachedWindowAPI } from 'happy-dom'
import { createMemoryHistory, createRouter } from 'vue-router'

/** A request that a component made. */
export interface Asked {
  method: string
  path: string
  body: unknown
}

/**
 * A service on loopback for tests of components: it answers what it is told to by "METHOD /path" (a problem where the answer has a status), keeps
 * what it was asked, and is the origin of the page.
 */
export async function serving(answers: Record<string, unknown>) {
  const asked: Asked[] = []
  const server: Server = createServer((request, response) => {
    let text = ''
    request.on('data', (piece: Buffer) => (text += piece.toString()))
    request.on('end', () => {
      const path = decodeURIComponent(request.url ?? '').replace(/^\/api\/v1/, '')
      const method = request.method ?? ''
      asked.push({ method, path, body: text ? JSON.parse(text) : undefined })
      const given = answers[`${method} ${path}`] ?? { status: 404, detail: `nothing at ${method} ${path}` }
      const status = (given as { status?: unknown }).status
      response.writeHead(typeof status === 'number' ? status : 200, {
        'content-type': typeof status === 'number' ? 'application/problem+json' : 'application/json',
      })
      response.end(JSON.stringify(given))
    })
  })
  await new Promise<void>((ready) => server.listen(0, '127.0.0.1', ready))
  const { port } = server.address() as AddressInfo
  ;(window as unknown as { happyDOM: DetachedWindowAPI }).happyDOM.setURL(`http://127.0.0.1:${port}/`)
  const stop = () => new Promise((done) => server.close(done))
  /** What changed something, of what was asked. */
  const changes = () => asked.filter((a) => a.method !== 'GET')
  return { asked, changes, stop }
}

/** Waits until something holds. */
export async function until(holds: () => boolean) {
  for (let tries = 0; !holds(); tries++) {
    if (tries > 500) throw new Error('it does not come to hold')
    await new Promise((wait) => setTimeout(wait, 10))
  }
}

/** A router that knows the pages that components link to. */
export const routed = () =>
  createRouter({
    history: createMemoryHistory(),
    routes: [{ path: '/:all(.*)', component: { template: '<i></i>' } }],
  })
