// What the description of the API says, as types that this program is compiled against; then used.
// Usage: node typed.js URL KEY OUTPUT
import createClient from 'openapi-fetch'
import type { paths } from '../../console/src/state/described'

const [url, key, output] = process.argv.slice(2) as [string, string, string]
const api = createClient<paths>({ baseUrl: `${url}/api/v1`, headers: { Authorization: `Bearer ${key}` } })

async function main(): Promise<void> {
  const made = await api.POST('/claims', { body: { output, setting: '40 %', wait: '2 s' } })
  if (made.error || !made.data || !('outcome' in made.data)) throw new Error(JSON.stringify(made.error))
  const told: string = made.data.outcome
  const read = await api.GET('/outputs/{name}', { params: { path: { name: output } } })
  const level: number | undefined = read.data?.confirmed?.level
  const wrong = await api.GET('/outputs/{name}', { params: { path: { name: 'nobody' } } })
  console.log(JSON.stringify([told, level, wrong.error?.code]))
}

void main()
