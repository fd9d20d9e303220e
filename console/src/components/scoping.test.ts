import { describe, expect, it } from 'vitest'
import { chosen, emptyScope, groupsOf, groupText } from './scoping'

describe('a scope that is edited', () => {
  it('holds each container once, whatever its writing', () => {
    let scope = chosen(emptyScope(), 'ou=people, dc=e', 'in')
    scope = chosen(scope, 'OU=people,dc=e', 'one')
    expect(scope.within).toEqual([{ dn: 'OU=people,dc=e', one_level: true }])
    scope = chosen(scope, 'ou=people,dc=e', 'out')
    expect(scope.within).toEqual([])
    expect(scope.except).toEqual([{ dn: 'ou=people,dc=e', one_level: false }])
    expect(chosen(scope, 'ou=people,dc=e', 'none')).toEqual(emptyScope())
  })

  it('reads groups line by line and writes them back', () => {
    const text = 'cn=deck-watch,dc=e\n!cn=trainees,dc=e'
    const groups = groupsOf(`  ${text}\n\n`)
    expect(groups.groups).toHaveLength(1)
    expect(groups.not_groups?.[0]?.name).toBe('cn=trainees,dc=e')
    expect(groupText({ ...emptyScope(), ...groups })).toBe(text)
  })
})
