import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from '@tanstack/react-router'
import { ActsPage } from './pages/acts/ActsPage'
import { BalancePage } from './pages/balance/BalancePage'
import { DisksPage } from './pages/disks/DisksPage'
import { EventsPage } from './pages/events/EventsPage'
import { FoliosPage } from './pages/folios/FoliosPage'
import { readFolio } from './pages/folios/search'
import { GPUPage } from './pages/gpus/GPUPage'
import { GPUsPage } from './pages/gpus/GPUsPage'
import { HostPage } from './pages/host/HostPage'
import { HostsPage } from './pages/hosts/HostsPage'
import { NetworkPage } from './pages/network/NetworkPage'
import { PlanPage } from './pages/plan/PlanPage'
import { readPlan } from './pages/plan/search'
import { RulesPage } from './pages/rules/RulesPage'
import { StatementPage } from './pages/statements/StatementPage'
import { readWindow, StatementsPage } from './pages/statements/StatementsPage'
import { TenantPage } from './pages/tenant/TenantPage'
import { UserPage } from './pages/user/UserPage'
import { readWorkloads, WorkloadsPage } from './pages/workloads/WorkloadsPage'
import { WorkloadPage } from './pages/workload/WorkloadPage'
import { leave } from './shell/Page'
import { Shell } from './shell/Shell'
import { readTime } from './time/span'

const root = createRootRoute({
  component: Shell,
  validateSearch: readTime,
  beforeLoad: (): Promise<void> | undefined => leave(router),
  notFoundComponent: () => <p className="font-serif text-[15px]">There is no such page.</p>,
})

const routes = [
  createRoute({ getParentRoute: () => root, path: '/', component: BalancePage }),
  createRoute({ getParentRoute: () => root, path: '/hosts', component: HostsPage }),
  createRoute({ getParentRoute: () => root, path: '/hosts/$host', component: HostPage }),
  createRoute({ getParentRoute: () => root, path: '/hosts/$host/gpus/$gpu', component: GPUPage }),
  createRoute({ getParentRoute: () => root, path: '/gpus', component: GPUsPage }),
  createRoute({ getParentRoute: () => root, path: '/tenants/$tenant', component: TenantPage }),
  createRoute({
    getParentRoute: () => root,
    path: '/workloads',
    component: WorkloadsPage,
    validateSearch: readWorkloads,
  }),
  createRoute({ getParentRoute: () => root, path: '/workloads/$id', component: WorkloadPage }),
  createRoute({ getParentRoute: () => root, path: '/users/$user', component: UserPage }),
  createRoute({ getParentRoute: () => root, path: '/disks', component: DisksPage }),
  createRoute({ getParentRoute: () => root, path: '/network', component: NetworkPage }),
  createRoute({ getParentRoute: () => root, path: '/events', component: EventsPage }),
  createRoute({ getParentRoute: () => root, path: '/acts', component: ActsPage }),
  createRoute({ getParentRoute: () => root, path: '/plan', component: PlanPage, validateSearch: readPlan }),
  createRoute({
    getParentRoute: () => root,
    path: '/statements',
    component: StatementsPage,
    validateSearch: readWindow,
  }),
  createRoute({
    getParentRoute: () => root,
    path: '/statements/$tenant',
    component: StatementPage,
    validateSearch: readWindow,
  }),
  createRoute({ getParentRoute: () => root, path: '/rules', component: RulesPage }),
  createRoute({ getParentRoute: () => root, path: '/folios', component: FoliosPage }),
  createRoute({
    getParentRoute: () => root,
    path: '/folios/$folio',
    component: lazyRouteComponent(() => import('./pages/folios/FolioPage'), 'FolioPage'),
    validateSearch: readFolio,
  }),
  createRoute({ getParentRoute: () => root, path: '/strip', component: () => null }), // the shell shows it
] as const

export const router = createRouter({ routeTree: root.addChildren(routes), defaultPreload: false })

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}
