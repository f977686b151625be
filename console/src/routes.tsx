// Every view and its address.
import { createBrowserRouter, Outlet, type RouteObject, useLocation } from 'react-router';
import { Shell } from './shell/Shell';
import { Broken } from './views/Broken';
import { Component as Nothing } from './views/Nothing';

/** Views of something by its number; nothing is at an address where that is none. */
function Numbered() {
  const { pathname } = useLocation();
  return /^\/\w+\/\d{1,15}\/?$/.test(pathname) ? <Outlet /> : <Nothing />;
}

const VIEWS: RouteObject[] = [
  {
    element: <Numbered />,
    children: [
      { path: 'alerts/:seq', lazy: () => import('./views/Alert') },
      { path: 'alarms/:id', lazy: () => import('./views/alarm/Alarm') },
      { path: 'jobs/:id', lazy: () => import('./views/job/Job') },
      { path: 'proposals/:id', lazy: () => import('./views/proposal/Proposal') },
    ],
  },
  { index: true, lazy: () => import('./views/Watch') },
  { path: 'alerts', lazy: () => import('./views/Alerts') },
  { path: 'alarms', lazy: () => import('./views/alarm/Alarms') },
  { path: 'jobs', lazy: () => import('./views/Jobs') },
  { path: 'rules', lazy: () => import('./views/Rules') },
  {
    path: 'rules/new',
    lazy: async () => ({ Component: (await import('./views/rule/Rule')).Start }),
  },
  { path: 'rules/:name', lazy: () => import('./views/rule/Rule') },
  { path: 'safety', lazy: () => import('./views/safety/Safety') },
  { path: 'sources', lazy: () => import('./views/source/Sources') },
  {
    path: 'sources/new',
    lazy: async () => ({ Component: (await import('./views/source/Source')).Start }),
  },
  { path: 'sources/:name', lazy: () => import('./views/source/Source') },
  { path: 'system', lazy: () => import('./views/system/System') },
  { path: 'access', lazy: () => import('./views/access/Access') },
  { path: 'record', lazy: () => import('./views/record/Record') },
  { path: 'keys', lazy: () => import('./views/KeysPage') },
  { path: 'proposals', lazy: () => import('./views/proposal/Proposals') },
  { path: 'runbooks', lazy: () => import('./views/runbook/Runbooks') },
  {
    path: 'runbooks/new',
    lazy: async () => ({ Component: (await import('./views/runbook/Runbook')).Start }),
  },
  { path: 'runbooks/:name', lazy: () => import('./views/runbook/Runbook') },
  { path: 'runbooks/:name/launch', lazy: () => import('./views/launch/Launch') },
  { path: 'library', lazy: () => import('./views/library/Library') },
  { path: 'library/:name', lazy: () => import('./views/library/ReadyMade') },
  { path: 'connections', lazy: () => import('./views/connection/Connections') },
  { path: 'connections/import', lazy: () => import('./views/connection/Import') },
  { path: 'connections/:name', lazy: () => import('./views/connection/Connection') },
  { path: 'subscribers', lazy: () => import('./views/subscriber/Subscribers') },
  { path: 'subscribers/:name', lazy: () => import('./views/subscriber/Subscriber') },
  { path: 'plans', lazy: () => import('./views/plan/Plans') },
  { path: 'plans/:name', lazy: () => import('./views/plan/Plan') },
  { path: 'shared', lazy: () => import('./views/shared/Shared') },
  {
    path: 'steps/:name',
    lazy: async () => ({ Component: (await import('./views/shared/SharedDefinition')).Step }),
  },
  {
    path: 'calendars/:name',
    lazy: async () => ({ Component: (await import('./views/shared/SharedDefinition')).Calendar }),
  },
  {
    path: 'groups/:name',
    lazy: async () => ({ Component: (await import('./views/shared/SharedDefinition')).Group }),
  },
  { path: 'guards/:name', lazy: () => import('./views/guard/Guard') },
  { path: 'contacts', lazy: () => import('./views/contact/Contacts') },
  { path: 'contacts/:name', lazy: () => import('./views/contact/Contact') },
  { path: '*', Component: Nothing },
];

export const router = createBrowserRouter([
  { path: '/decide', HydrateFallback: () => null, lazy: () => import('./views/decision/Decide') },
  {
    path: '/',
    element: <Shell />,
    HydrateFallback: () => null,
    children: [
      {
        // Whatever goes wrong in a view stays in its place.
        errorElement: <Broken />,
        children: VIEWS,
      },
    ],
  },
]);
