// The figures of scripts/style. It reads sources as text: rough, the same each time, and good enough to see a trend.
import { readFileSync, readdirSync, statSync } from 'node:fs'
import { join } from 'node:path'

function files(folder, wanted) {
  return readdirSync(folder).flatMap((name) => {
    const path = join(folder, name)
    if (['target', 'node_modules', 'dist', '.git'].includes(name)) return []
    return statSync(path).isDirectory() ? files(path, wanted) : wanted(path) ? [path] : []
  })
}

const rust = files('crates', (path) => path.endsWith('.rs'))
const isTest = (path) => path.includes('/tests/') || path.endsWith('tests.rs')
const code = rust.filter((path) => !isTest(path))
const console_ = files('console/src', (path) => /\.(vue|ts|css)$/.test(path) && !path.endsWith('schema.d.ts'))
const words = [
  ...code,
  ...console_.filter((path) => !path.includes('.test.')),
  ...files('docs', (path) => path.endsWith('.md') && !path.endsWith('glossary.md')),
  'README.md',
  'ARCHITECTURE.md',
  'CHANGELOG.md',
]
const text = new Map([...new Set([...rust, ...console_, ...words])].map((path) => [path, readFileSync(path, 'utf8')]))
const lines = (path) => text.get(path).split('\n')

function markers() {
  const all = readFileSync('scripts/style.markers', 'utf8').split('\n').filter((line) => line && !line.startsWith('#'))
  const pattern = new RegExp(`\\b(${all.join('|')})\\b`, 'gi')
  return words.flatMap((path) =>
    lines(path).flatMap((line, n) => [...line.matchAll(pattern)].map((found) => `${path}:${n + 1}: ${found[0]}`)),
  )
}

const codeLines = () => rust.flatMap((path) => lines(path).map((line, n) => ({ path, n, line })))
const wide = () => codeLines().filter(({ line }) => [...line].length > 100).map(({ path, n }) => `${path}:${n + 1}`)

/** Four or more calls of methods on one line. */
function dense() {
  return code
    .flatMap((path) => lines(path).map((line, n) => ({ path, n, line })))
    .filter(({ line }) => !line.trim().startsWith('//') && (line.match(/\.\w+(::<[^>]*>)?\(/g) ?? []).length >= 4)
    .map(({ path, n }) => `${path}:${n + 1}`)
}

/** Each function of some files with its lines and its parameters. */
function functions(paths) {
  const found = []
  for (const path of paths) {
    const all = lines(path)
    for (let at = 0; at < all.length; at++) {
      const head = all[at].match(/^(\s*)(?:pub(?:\([^)]*\))? )?(?:const )?(?:async )?fn (\w+)/)
      if (!head) continue
      let end = at
      while (end < all.length && all[end] !== `${head[1]}}` && !(end === at && /\}\s*$/.test(all[end]) && all[end].includes('{'))) end++
      const signature = all.slice(at, Math.min(at + 15, end + 1)).join(' ')
      const open = signature.indexOf('(', signature.indexOf(`fn ${head[2]}`))
      let depth = 0
      let parameters = 0
      let some = false
      for (let place = open; place < signature.length; place++) {
        const sign = signature[place]
        if ('([{<'.includes(sign)) depth++
        else if (')]}'.includes(sign) || (sign === '>' && signature[place - 1] !== '-')) depth--
        else if (sign === ',' && depth === 1) parameters++
        if (depth === 1 && /\S/.test(sign) && !'(),'.includes(sign)) some = true
        if (depth === 0) {
          if (some && !/,\s*$/.test(signature.slice(open, place))) parameters++
          break
        }
      }
      const own = /\(\s*(&\s*('\w+ )?(mut )?)?(mut )?self\b/.test(signature.slice(open, open + 30)) ? 1 : 0
      found.push({ path, line: at + 1, name: head[2], length: end - at + 1, parameters: parameters - own })
    }
  }
  return found
}
const over80 = (paths) =>
  functions(paths).filter((one) => one.length > 80).map((one) => `${one.path}:${one.line}: ${one.name} ${one.length}`)
const long = () => over80(code)
const stories = () => over80(rust.filter(isTest))
const parameters = () =>
  functions(code).filter((one) => one.parameters > 5).map((one) => `${one.path}:${one.line}: ${one.name} ${one.parameters}`)

/** Type names that more than one crate or module declares; the API's own type for a type of core or engine is the same thing. */
function types() {
  const places = new Map()
  for (const path of code.filter((path) => !path.includes('/tide-bench/') && !path.includes('/tide-api/'))) {
    lines(path).forEach((line, n) => {
      const name = line.match(/^(?:pub(?:\([^)]*\))? )?(?:struct|enum|trait|type) (\w+)/)?.[1]
      if (name) places.set(name, [...(places.get(name) ?? []), `${path}:${n + 1}`])
    })
  }
  return [...places].filter(([, all]) => all.length > 1).map(([name, all]) => `${name}: ${all.join(', ')}`)
}

function bare() {
  const { schemas } = JSON.parse(readFileSync('console/openapi.json', 'utf8')).components
  const isBare = (property) =>
    [property.type].flat().includes('string') && !property.format && !property.enum
  const isTyped = (name) => name.endsWith('_at') || ['state', 'kind', 'verdict', 'status'].includes(name)
  return Object.entries(schemas).flatMap(([schema, { properties }]) =>
    Object.entries(properties ?? {}).filter(([name, property]) => isTyped(name) && isBare(property)).map(([name]) => `${schema}.${name}`),
  )
}

const engine = 'crates/tide-engine/src/'
const ownCode = (path) => text.get(path).split('#[cfg(test)]')[0]

/** The components of the engine that know themselves through others: who knows whom must have no circle. */
function circles() {
  const component = (path) => path.slice(engine.length).split('/')[0].replace('.rs', '')
  const known = new Map()
  for (const path of code.filter((path) => path.startsWith(engine) && component(path) !== 'lib')) {
    const all = known.get(component(path)) ?? new Set()
    for (const [, other] of ownCode(path).matchAll(/\bcrate::(\w+)/g)) if (other !== component(path)) all.add(other)
    known.set(component(path), all)
  }
  const reaches = (from) => {
    const seen = new Set()
    const left = [from]
    while (left.length)
      for (const next of known.get(left.pop()) ?? []) if (!seen.has(next)) (seen.add(next), left.push(next))
    return seen
  }
  return [...known.keys()].filter((one) => reaches(one).has(one))
}

/** Components of the engine over 1,500 lines, and its files of 400 lines or more. */
function large() {
  const folders = new Map()
  const found = []
  for (const path of code.filter((path) => path.startsWith(engine))) {
    const length = lines(path).length - 1
    const folder = path.slice(0, path.lastIndexOf('/') + 1)
    folders.set(folder, (folders.get(folder) ?? 0) + length)
    if (length >= 400) found.push(`${path} ${length}`)
  }
  return [...found, ...[...folders].filter(([, length]) => length > 1500).map(([folder, length]) => `${folder} ${length}`)]
}

const measures = { markers, wide, dense, long, stories, parameters, types, bare, circles, large }

/** The figures with their aims. */
function figures() {
  const total = codeLines().length
  const own = code.reduce((sum, path) => sum + lines(path).length, 0)
  const share = (count, all) => (100 * count) / all
  const none = { aim: '0', holds: (value) => value === 0 }
  const under = (limit, unit = '') => ({ aim: `under ${limit}${unit}`, holds: (value) => value < limit })
  const percent = (value) => `${value.toFixed(1)} %`
  return [
    { label: 'words that are not ours', value: markers().length, ...none },
    { label: 'lines over 100 columns', value: share(wide().length, total), show: percent, ...under(1, ' %') },
    {
      label: 'lines with four or more method calls, of 1,000',
      value: 10 * share(dense().length, own),
      show: (value) => value.toFixed(1),
      ...under(6),
    },
    { label: 'functions over 80 lines', value: long().length, ...under(15) },
    { label: 'functions of tests over 80 lines', value: stories().length, ...under(15) },
    { label: 'functions with more than five parameters', value: parameters().length, ...under(10) },
    { label: 'type names declared more than once', value: types().length, ...none },
    { label: 'states and instants that are bare texts in the API', value: bare().length, ...none },
    { label: 'components of the engine in a circle', value: circles().length, ...none },
    { label: 'components and files of the engine that are too long', value: large().length, ...none },
    {
      label: 'share of tests in the code',
      value: share(total - own, total),
      show: percent,
      aim: 'at least 28 %',
      holds: (value) => value >= 28,
    },
  ]
}

const [option, name] = process.argv.slice(2)
if (option === '--list') {
  if (!measures[name]) {
    console.error(`there is no measure \`${name}\`: ${Object.keys(measures).join(', ')}`)
    process.exit(2)
  }
  console.log(measures[name]().join('\n'))
} else {
  const all = figures()
  for (const { label, value, aim, show = String } of all)
    console.log(label.padEnd(52), show(value).padStart(10), `  aim ${aim}`)
  const missed = all.filter(({ value, holds }) => !holds(value))
  if (option === '--check' && missed.length > 0) {
    console.error(`missed: ${missed.map(({ label }) => label).join(', ')}; scripts/style --list shows the places`)
    process.exit(1)
  }
}
