import type { SetupState, SetupStep } from '@quay/contract';
import type { ReactNode } from 'react';
import { OfficeStep, YouStep } from './office-you';
import { MailStep } from './mail';
import { PlaceStep } from './place';
import { StoresStep, WayInStep } from './stores-way';
import { timeThere } from '../../ui/time-there';

export interface StepProps {
  state: SetupState;
  done: (state: SetupState) => void;
}

interface Step {
  title: string;
  /** What it is about, before it is its turn. */
  later: string;
  Form: (props: StepProps) => ReactNode;
  /** What was answered, in a line. */
  summary: (state: SetupState) => string;
}

const WAYS = {
  name: 'by an own name; Reach leads through it next',
  relay: 'through a relay; Reach leads through it next',
  inside: 'only inside for now',
} as const;

export const STEPS: Record<SetupStep, Step> = {
  office: {
    title: 'The office',
    later: 'its name, and the clock it goes by',
    Form: OfficeStep,
    summary: ({ answers: { office } }) =>
      office ? `${office.name}, ${office.zone} (it is ${timeThere(office.zone)} there)` : '',
  },
  you: {
    title: 'You',
    later: 'the account that runs the server',
    Form: YouStep,
    summary: ({ answers: { you } }) => (you ? `${you.name}, ${you.signInName}; nobody can sign in yet but you` : ''),
  },
  place: {
    title: 'Where files lie',
    later: 'a folder on a disk with room to grow',
    Form: PlaceStep,
    summary: ({ answers: { place } }) => (place ? `${place.folder}: ${place.words}` : ''),
  },
  stores: {
    title: 'Stores',
    later: 'Office, Projects, and a place of their own for everybody',
    Form: StoresStep,
    summary: ({ answers: { stores } }) =>
      stores ? `${stores.names.join(', ')}${stores.homes ? ', and a place of their own for everybody' : ''}` : '',
  },
  mail: {
    title: 'Mail',
    later: 'so that links, codes and notices can be sent; can wait',
    Form: MailStep,
    summary: ({ answers: { mail } }) =>
      mail && !mail.later ? `from ${mail.sender}, by ${mail.host}, port ${mail.port}` : 'later',
  },
  wayIn: {
    title: 'The way in',
    later: 'from outside, by an own name or a relay; or only inside for now',
    Form: WayInStep,
    summary: ({ answers: { wayIn } }) => (wayIn ? WAYS[wayIn.kind] : ''),
  },
};
