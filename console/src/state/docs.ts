// Which pages of the docs say something of a page of the console: file, heading, and what it is called in a button.

type Said = [file: string, part: string, words: string]

const ABOUT: Record<string, Said[]> = {
  now: [['console', '', 'The console'], ['phrases', '', 'Phrases'], ['rules', '', 'Who gets what they want']],
  plan: [['time', '', 'Schedules and timers']],
  'journal/rows': [['rules', 'outcomes', 'Outcomes'], ['safety', '', 'What is kept']],
  'journal/records': [['safety', '', 'What is kept']],
  'site/boards': [['boards', '', 'Boards and pins'], ['site-file', '', 'The site file']],
  'site/rules': [['safety', '', 'Interlocks, trips, reflexes'], ['conditions', '', 'Conditions']],
  'site/wiring': [['boards', 'which-wire-goes-where', 'Which wire goes where'], ['kinds', '', 'One of each kind'], ['light-and-sound', 'wiring', 'Sums']],
  'site/remotes': [['remotes', '', 'Remotes']],
  'site/sites': [['sites', '', 'More sites than one']],
  'site/keys': [['security', '', 'Keys and doors']],
  'site/file': [['site-file', '', 'The site file'], ['conditions', '', 'Conditions'], ['phrases', '', 'Phrases']],
  'site/changes': [['site-file', '', 'The site file'], ['growing', '', 'A site that grows'], ['safety', '', 'Interlocks, trips, reflexes']],
  'site/walk': [['growing', 'the-walk', 'The walk']],
  'bench/signals': [['light-and-sound', '', 'Light and sound']],
  'bench/light': [['light-and-sound', '', 'Light and sound']],
  'bench/sums': [['light-and-sound', 'wiring', 'Sums']],
  help: [['first-evening', '', 'First evening'], ['when-things-fail', '', 'When something fails'], ['api', '', 'HTTP'], ['client', '', 'From Python'], ['command-line', '', 'Command line'], ['commands', '', 'Commands']],
}

export const aboutPage = (at: string): Said[] => ABOUT[at] ?? []
/** Its address, from here: a proxy may have put all of it below a path. */
export const pageOf = ([file, part]: Said) => `help/${file}.html${part && `#${part}`}`
