/** The settings of a system of any kind as form fields. */
export type Field = {
  name: string
  kind: 'flag' | 'number' | 'text' | 'lines' | 'pem' | 'json'
  text: string
  flag: boolean
}

/** The fields of all settings of a system, including those with their default. */
export function fields(settings: Record<string, unknown>): Field[] {
  return Object.entries(settings).map(([name, value]): Field => {
    const field = (kind: Field['kind'], text: string): Field => ({ name, kind, text, flag: value === true })
    if (typeof value === 'boolean') return field('flag', '')
    if (typeof value === 'number') return field('number', String(value))
    if (Array.isArray(value)) return field('lines', value.join('\n'))
    if (value !== null && typeof value === 'object') return field('json', JSON.stringify(value))
    const text = value === null || value === undefined ? '' : String(value)
    return field(name.endsWith('_pem') ? 'pem' : 'text', text)
  })
}

/** The settings that a form stands for. An empty field is omitted, so that its default applies; an invalid one is an error. */
export function settingsFrom(form: Field[], before: Record<string, unknown>): Record<string, unknown> {
  const settings: Record<string, unknown> = {}
  for (const field of form) {
    const text = field.text.trim()
    if (field.kind === 'flag') settings[field.name] = field.flag
    else if (!text) {
      if (field.kind === 'lines' && Array.isArray(before[field.name])) settings[field.name] = []
    } else if (field.kind === 'number') {
      const number = Number(text)
      if (!Number.isFinite(number)) throw new Error(`${field.name} must be a number, not “${text}”`)
      settings[field.name] = number
    } else if (field.kind === 'json') {
      try {
        settings[field.name] = JSON.parse(text) as unknown
      } catch {
        throw new Error(`${field.name} is not valid JSON`)
      }
    } else if (field.kind === 'lines') {
      settings[field.name] = text
        .split('\n')
        .map((line) => line.trim())
        .filter(Boolean)
    } else {
      const number = typeof before[field.name] === 'number' ? Number(text) : text
      settings[field.name] = number
    }
  }
  return settings
}
