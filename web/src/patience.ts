import { configure } from '@testing-library/react'

// What a test waits for may be long in coming where other work runs beside it.
configure({ asyncUtilTimeout: 20_000 })
