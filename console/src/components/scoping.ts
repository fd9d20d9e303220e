import type { Schemas } from '@/api/client'

export type Scope = Schemas['Scope']
export type Act = 'in' | 'one' | 'out' | 'none'

export function emptyScope(): Scope {
  return { within: [], except: [], groups: [], not_groups: [], filter: null, conditions: [] }
}

const key = (dn: string) => dn.toLowerCase().replace(/,\s+/g, ',')

/** A copy of the scope with another choice for a container. */
export function chosen(scope: Scope, dn: string, act: Act): Scope {
  const others = (all: Schemas['ScopeContainer'][] | undefined) =>
    (all ?? []).filter((c) => key(c.dn) !== key(dn))
  const within = others(scope.within)
  const except = others(scope.except)
  if (act === 'in' || act === 'one') within.push({ dn, one_level: act === 'one' })
  if (act === 'out') except.push({ dn, one_level: false })
  return { ...scope, within, except }
}

/** Lines of text as groups: a line that begins with `!` is a group whose members are left out. */
export function groupsOf(text: string): Pick<Scope, 'groups' | 'not_groups'> {
  const lines = text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
  const group = (name: string) => ({ name, system: null, nested: true })
  return {
    groups: lines.filter((line) => !line.startsWith('!')).map(group),
    not_groups: lines.filter((line) => line.startsWith('!')).map((line) => group(line.slice(1).trim())),
  }
}

/** The same, back. */
export function groupText(scope: Scope): string {
  return [
    ...(scope.groups ?? []).map((g) => g.name),
    ...(scope.not_groups ?? []).map((g) => `!${g.name}`),
  ].join('\n')
}
