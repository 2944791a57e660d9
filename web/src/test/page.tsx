import { createRootRoute, Outlet } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import { TimeOfPage } from '../time/TimeOfPage'

/** The root of a page that is tested: what is on it knows of the span, as in the shell. */
export const rootOfPage = (children: ReactNode = <Outlet />) =>
  createRootRoute({ component: () => <TimeOfPage>{children}</TimeOfPage> })
