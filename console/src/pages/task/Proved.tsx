import { Pill } from '../../components/Outcome';

/** Whether it has been shown that a task is fair. */
export function Proved({ state }: { state: string }) {
  if (state === 'proved') return <Pill look="passed">proved</Pill>;
  if (state === 'changed') return <Pill look="void">changed since it was proved</Pill>;
  return <Pill look="waiting">unproved</Pill>;
}
