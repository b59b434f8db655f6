// A consumer of a Thing Description: reads, invokes, observes and subscribes by what that says, and by nothing else.
// Usage: node consumer.cjs URL KEY OUTPUT; each line that it prints is JSON: what happened, and what came with it.
const { Servient, Helpers } = require('@node-wot/core')
const { HttpClientFactory } = require('@node-wot/binding-http')

const [url, key, output] = process.argv.slice(2)
const say = (what, value) => console.log(JSON.stringify([what, value]))

async function main() {
  const answer = await fetch(url, { headers: { Authorization: `Bearer ${key}` } })
  const description = await answer.json()
  const servient = new Servient()
  servient.addClientFactory(new HttpClientFactory())
  servient.addCredentials({ [description.id]: { token: key } })
  const wot = await servient.start()
  const thing = await wot.consume(description)
  let stopping = false
  const fail = (error) => stopping || say('error', String(error))
  say('read', await (await thing.readProperty(output)).value())
  const observed = await thing.observeProperty(output, async (data) => say('observed', await data.value()), fail)
  const heard = await thing.subscribeEvent('output', async (data) => say('event', await data.value()), fail)
  say('ready', null)
  for await (const line of require('readline').createInterface({ input: process.stdin })) {
    const [action, input] = JSON.parse(line)
    if (action === 'stop') {
      stopping = true
      await observed.stop()
      await heard.stop()
      break
    }
    try {
      const result = await thing.invokeAction(action, input)
      say('invoked', result === undefined ? null : await result.value())
    } catch (error) {
      say('refused', String(error))
    }
  }
  say('over', null)
  process.exit(0)
}

main().catch((error) => {
  say('error', String(error))
  process.exit(1)
})
