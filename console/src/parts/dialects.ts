// The dialects of directories, as people read them.
import type { Schemas } from '../api/client'
import { t } from '../state/language'

export type Dialect = Schemas['NewDirectory']['dialect']

export const dialects: Record<Dialect, { label: string; about: string }> = {
  ad: { label: t('AD-compatible'), about: 'objectGUID, changes by DirSync' },
  standard: { label: t('Standard LDAP'), about: 'entryUUID, changes by RFC 4533, as OpenLDAP' },
  '389ds': { label: t('389 Directory Server'), about: 'nsUniqueId, changes by RFC 4533 or by their times' },
}

export const dialectLabel = (name: string): string => dialects[name as Dialect]?.label ?? name
