// The dialects of directories, as people read them.
export const dialects = [
  { name: 'ad', label: 'AD-compatible', about: 'objectGUID, changes by DirSync' },
  { name: 'standard', label: 'Standard LDAP', about: 'entryUUID, changes by RFC 4533, as OpenLDAP' },
  { name: '389ds', label: '389 Directory Server', about: 'nsUniqueId, changes by RFC 4533 or by their times' },
] as const

export type Dialect = (typeof dialects)[number]['name']

export const dialectLabel = (name: string): string => dialects.find((one) => one.name === name)?.label ?? name
