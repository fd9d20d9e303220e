/** The form that connects a system, and the settings that it stands for. */
export const kinds = [
  { id: 'ldap', name: 'Directory', what: 'LDAP: OpenLDAP, a domain controller, others' },
  { id: 'scim', name: 'SCIM service', what: 'SCIM 2.0 over HTTPS; its capabilities are detected' },
  { id: 'feed', name: 'Feed', what: 'A CSV or JSON Lines file, in a folder or downloaded over HTTP' },
  { id: 'push', name: 'Push source', what: 'It calls this service, over SCIM 2.0 or with events' },
] as const
export type Kind = (typeof kinds)[number]['id']

/** The empty form. */
export const blank = () => ({
  url: '',
  tls: 'start' as 'start' | 'ldaps' | 'none',
  bind_dn: '',
  base_dn: '',
  backups: '',
  ca_pem: '',
  pin: '',
  client_pem: '',
  referrals: '',
  person_classes: '',
  group_classes: '',
  in_flight: '',
  per_second: '',
  secret: '',
  method: 'bearer' as 'bearer' | 'basic' | 'oauth' | 'header',
  user: '',
  header: '',
  token_url: '',
  client_id: '',
  from: 'path' as 'path' | 'url',
  path: '',
  key: '',
  label: '',
})
export type Form = ReturnType<typeof blank>

const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)

/** The settings that the form stands for, without empty fields. */
export function settingsOf(kind: Kind, v: Form) {
  const ca = v.ca_pem.trim() ? { ca_pem: v.ca_pem } : {}
  const pin = v.pin.trim() ? { pin_sha256: v.pin.trim() } : {}
  if (kind === 'ldap') {
    return {
      url: v.url.trim(),
      base_dn: v.base_dn.trim(),
      start_tls: v.tls === 'start' && !v.url.startsWith('ldaps:'),
      ...(v.bind_dn ? { bind_dn: v.bind_dn.trim() } : {}),
      ...(lines(v.backups).length ? { backups: lines(v.backups) } : {}),
      ...(v.client_pem.trim() ? { auth: 'external', client_pem: v.client_pem } : {}),
      ...(lines(v.referrals).length ? { referral_hosts: lines(v.referrals) } : {}),
      ...(lines(v.person_classes).length ? { person_classes: lines(v.person_classes) } : {}),
      ...(lines(v.group_classes).length ? { group_classes: lines(v.group_classes) } : {}),
      ...ca,
      ...pin,
    }
  }
  if (kind === 'scim') {
    const auth = {
      bearer: { method: 'bearer' },
      basic: { method: 'basic', user: v.user },
      header: { method: 'header', name: v.header },
      oauth: { method: 'oauth', token_url: v.token_url, client_id: v.client_id },
    }[v.method]
    return {
      url: v.url.trim(),
      auth,
      ...(v.in_flight.trim() ? { in_flight: Number(v.in_flight) } : {}),
      ...(v.per_second.trim() ? { per_second: Number(v.per_second) } : {}),
      ...ca,
      ...pin,
    }
  }
  if (kind === 'feed') {
    const where = v.from === 'path' ? { path: v.path.trim() } : { url: v.url.trim() }
    return { ...where, key: v.key.trim(), ...(v.label.trim() ? { name: v.label.trim() } : {}), ...ca }
  }
  return {}
}

/** What is missing before the connection can be tested, as an instruction; empty if nothing is. */
export function missingIn(kind: Kind, name: string, v: Form): string {
  if (!/^[a-z][a-z0-9-]{0,39}$/.test(name.trim()))
    return 'give the system a name: lower-case letters, digits, hyphens, a letter first'
  if (kind === 'ldap' && !v.url.trim()) return 'give the address, for example ldaps://harbour.skerry.example'
  if (kind === 'ldap' && !v.base_dn.trim()) return 'give the base DN, for example dc=skerry,dc=example'
  if (kind === 'scim' && !v.url.trim())
    return 'give the base URL, for example https://berthing.skerry.example/scim/v2'
  if (
    kind === 'scim' &&
    [v.in_flight, v.per_second].some((n) => n.trim() && !/^[1-9]\d{0,4}$/.test(n.trim()))
  )
    return 'give requests as a whole number'
  if (v.pin.trim() && v.pin.replace(/[: ]/g, '').length !== 64)
    return 'give the SHA-256 of the pinned certificate: 64 hexadecimal digits'
  if (kind === 'feed' && !(v.from === 'path' ? v.path : v.url).trim()) return 'give the location of the file'
  if (kind === 'feed' && !v.key.trim()) return 'give the key column'
  return ''
}

/** Whether the password would cross the network in clear text. */
export const inClear = (kind: Kind, v: Form): boolean =>
  kind === 'ldap' &&
  v.tls === 'none' &&
  v.url.startsWith('ldap:') &&
  !/^ldap:\/\/(127\.|localhost|\[::1\])/.test(v.url) &&
  !!v.secret
