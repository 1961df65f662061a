import { describe, expect, it } from 'vitest'

import { firstOf, t } from './language'

describe('the language', () => {
  it('is the first of the browser’s that there is, else English', () => {
    expect(firstOf(['fr-FR', 'de-AT', 'en'])).toBe('de')
    expect(firstOf(['en-GB', 'de'])).toBe('en')
    expect(firstOf(['nn-NO'])).toBe('nb')
    expect(firstOf(['fr', 'toString'])).toBe('en')
    expect(firstOf([])).toBe('en')
  })
})

describe('a text', () => {
  it('stands as it is where no catalogue has it, with its values in their places', () => {
    expect(t('{1} of {0}: {0}', 'a', 2)).toBe('2 of a: a')
    expect(t('Nothing. With: points {here} and <signs>')).toBe('Nothing. With: points {here} and <signs>')
  })
  it('keeps values as they are, whatever stands in them', () => {
    expect(t('“{0}” is gone', 'a {0} & $t(b) <i>')).toBe('“a {0} & $t(b) <i>” is gone')
    expect(t('{0} left', undefined)).toBe(' left')
  })
})
