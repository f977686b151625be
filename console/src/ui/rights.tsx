// What the token that is signed in with allows, so that nobody is offered what would be refused.
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { me, type Who } from '../api/client';

const ROLES: Who['role'][] = ['viewer', 'responder', 'author', 'admin'];

/** Whether it allows as much as a role does. Until that is known, everything is as if it did. */
export function useMay(role: Who['role']): boolean {
  const who = useQuery({ queryKey: ['me'], queryFn: me, staleTime: Number.POSITIVE_INFINITY });
  return !who.data || ROLES.indexOf(who.data.role) >= ROLES.indexOf(role);
}

/** What stands in the place of something that is not allowed. */
export function Needs({ least, children }: { least: Who['role']; children: ReactNode }) {
  return (
    <p className="text-ink-2">
      {children} needs the role {least} or a higher one.
    </p>
  );
}
