import type { WindowText } from '@quay/contract';
import { fromLocalField, presetCloses, type Window, type WindowPreset } from '@quay/core';

export type WindowChoice = WindowPreset | 'custom';

/** A window as it is being chosen: a preset, or two fields of local time, where '' is absent. */
export interface ChosenWindow {
  choice: WindowChoice;
  opensField: string;
  closesField: string;
}

/** What the choice means at this moment, by the calendar of the office's zone. */
export function chosenWindow(chosen: ChosenWindow, now: number, zone: string): Window {
  if (chosen.choice !== 'custom') return { opensAt: null, closesAt: presetCloses(chosen.choice, now, zone) };
  const at = (field: string) => (field ? fromLocalField(field, zone) : null);
  return { opensAt: at(chosen.opensField), closesAt: at(chosen.closesField) };
}

/** As the API takes it: RFC 3339 in UTC. */
export function windowText(window: Window): WindowText {
  const text = (at: number | null) => (at === null ? null : new Date(at).toISOString());
  return { opensAt: text(window.opensAt), closesAt: text(window.closesAt) };
}
