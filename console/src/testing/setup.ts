// Before all tests: templates ask for their texts, as in the console.
import { config } from '@vue/test-utils'

import { texts } from '../state/language'

config.global.plugins.push(texts)
