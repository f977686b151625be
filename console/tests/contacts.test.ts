import { expect, test } from 'vitest';
import type { Contact } from '../src/api/client';
import { first, onDuty } from '../src/views/contact/words';

const way = (contact: string, now: boolean) => ({
  contact,
  call: 'post',
  via: 'crew-chat',
  wait: '5m',
  hours: null,
  now,
});
const team: Contact = {
  name: 'booking',
  summary: null,
  members: ['vera', 'pat'],
  on_duty: ['pat'],
  duty_by: null,
  without_token: [],
  rounds: 1,
  ways: [way('pat', false), way('vera', true)],
};

test('who is on duty, or what says so', () => {
  expect(onDuty(team)).toBe('pat');
  expect(onDuty({ ...team, duty_by: 'rota via roster' })).toBe('as rota via roster says');
});

test('the first way whose time it is', () => {
  expect(first(team)).toBe('vera: post via crew-chat');
  expect(first({ ...team, ways: [way('pat', false)] })).toBe('nobody is to be reached now');
});
