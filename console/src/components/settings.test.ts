import { describe, expect, it } from 'vitest'
import { fields, settingsFrom } from './settings'

describe('settings as a form', () => {
  const all = {
    url: 'ldap://harbour.example',
    backups: ['ldap://two.example'],
    start_tls: true,
    page_size: 500,
    auth: { method: 'bearer' },
    bind_dn: null,
    ca_pem: '-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----',
  }

  it('comes back as it was', () => {
    const set: Partial<typeof all> = { ...all }
    delete set.bind_dn
    expect(settingsFrom(fields(all), all)).toEqual(set)
  })

  it('takes what was typed by its kind, and says what cannot be read', () => {
    const form = fields(all)
    const put = (name: string, text: string) => {
      form.find((field) => field.name === name)!.text = text
    }
    put('backups', ' ldap://three.example \n\n ldap://four.example')
    put('page_size', '250')
    put('bind_dn', 'cn=tide')
    const read = settingsFrom(form, all)
    expect(read.backups).toEqual(['ldap://three.example', 'ldap://four.example'])
    expect([read.page_size, read.bind_dn]).toEqual([250, 'cn=tide'])
    put('page_size', 'many')
    expect(() => settingsFrom(form, all)).toThrow('page_size must be a number')
    put('page_size', '')
    put('auth', '{')
    expect(() => settingsFrom(form, all)).toThrow('auth is not valid JSON')
  })
})
