import { describe, expect, it } from 'vitest'
import { blank, inClear, missingIn, settingsOf, type Form, type Kind } from './connecting'

const form = (given: Partial<Form>): Form => ({ ...blank(), ...given })
const harbour = form({ url: ' ldap://harbour.skerry.example ', base_dn: 'dc=skerry,dc=example' })

describe('the settings of a form', () => {
  it('leaves out what was left empty', () => {
    expect(settingsOf('ldap', harbour)).toEqual({
      url: 'ldap://harbour.skerry.example',
      base_dn: 'dc=skerry,dc=example',
      start_tls: true,
    })
    expect(settingsOf('push', harbour)).toEqual({})
  })

  it('has hosts line by line, and a certificate of ours in place of a password', () => {
    const full = form({
      ...harbour,
      backups: ' ldap://b1 \n\nldap://b2\n',
      client_pem: 'PEM',
      referrals: 'r1',
      person_classes: 'person\nnsPerson\n',
    })
    expect(settingsOf('ldap', full)).toMatchObject({
      backups: ['ldap://b1', 'ldap://b2'],
      auth: 'external',
      client_pem: 'PEM',
      referral_hosts: ['r1'],
      person_classes: ['person', 'nsPerson'],
    })
    expect(settingsOf('ldap', form({ url: 'ldaps://h', base_dn: 'dc=x' }))).toMatchObject({
      start_tls: false,
    })
  })

  it('uses the chosen authentication method', () => {
    const settings = (given: Partial<Form>) => settingsOf('scim', form({ url: 'https://b', ...given }))
    expect(settings({})).toEqual({ url: 'https://b', auth: { method: 'bearer' } })
    expect(settings({ method: 'basic', user: 'tide' })).toMatchObject({
      auth: { method: 'basic', user: 'tide' },
    })
    expect(settings({ method: 'header', header: 'X-Api-Key' })).toMatchObject({
      auth: { method: 'header', name: 'X-Api-Key' },
    })
    expect(
      settings({ method: 'oauth', token_url: 't', client_id: 'c', in_flight: '4', per_second: '9' }),
    ).toMatchObject({
      auth: { method: 'oauth', token_url: 't', client_id: 'c' },
      in_flight: 4,
      per_second: 9,
    })
  })

  it('names a file by its folder or by its address, and never both', () => {
    const feed = form({ path: '/feeds/roster', url: 'https://r', key: 'number', label: 'name' })
    expect(settingsOf('feed', feed)).toEqual({ path: '/feeds/roster', key: 'number', name: 'name' })
    expect(settingsOf('feed', { ...feed, from: 'url' })).toEqual({
      url: 'https://r',
      key: 'number',
      name: 'name',
    })
  })
})

describe('what is missing', () => {
  const missing = (kind: Kind, given: Partial<Form>, name = 'harbour') => missingIn(kind, name, form(given))

  it('is named, one field at a time', () => {
    expect(missing('ldap', {}, 'Harbour!')).toContain('a name')
    expect(missing('ldap', {})).toContain('the address')
    expect(missing('ldap', { url: 'ldap://h' })).toContain('the base DN')
    expect(missing('scim', {})).toContain('the base URL')
    expect(missing('scim', { url: 'https://b', in_flight: '-1' })).toContain('whole number')
    expect(missing('scim', { url: 'https://b', pin: 'ab:cd' })).toContain('64 hexadecimal digits')
    expect(missing('feed', { from: 'url', path: '/x' })).toContain('location of the file')
    expect(missing('feed', { path: '/x' })).toContain('the key column')
  })

  it('is nothing when it can be tested', () => {
    expect(missingIn('ldap', 'harbour', harbour)).toBe('')
    expect(missing('scim', { url: 'https://b', pin: 'AB:'.repeat(31) + 'AB' })).toBe('')
    expect(missing('feed', { path: '/x', key: 'number' })).toBe('')
    expect(missing('push', {})).toBe('')
  })
})

describe('a password in clear text', () => {
  it('is warned of but on this machine, and where there is none', () => {
    const open = { ...harbour, url: 'ldap://harbour', tls: 'none' as const, secret: 'x' }
    expect(inClear('ldap', open)).toBe(true)
    expect(inClear('ldap', { ...open, url: 'ldap://127.0.0.1:389' })).toBe(false)
    expect(inClear('ldap', { ...open, url: 'ldaps://harbour' })).toBe(false)
    expect(inClear('ldap', { ...open, tls: 'start' })).toBe(false)
    expect(inClear('ldap', { ...open, secret: '' })).toBe(false)
    expect(inClear('scim', open)).toBe(false)
  })
})
