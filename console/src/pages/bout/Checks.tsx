import { useQuery } from '@tanstack/react-query';
import { Accordion } from 'radix-ui';

import { service, type CheckResult } from '../../api/client';
import { Notice } from '../../components/Notice';
import { Pill, type Look } from '../../components/Outcome';
import { count, duration, visible } from '../../lib/format';

const LOOKS: Record<string, Look> = { passed: 'passed', failed: 'failed', timeout: 'failed', 'not-run': 'waiting' };

/** Text that a tool or a test printed: plain text, hidden characters shown. */
export function Output({ text, cut }: { text: string; cut: number }) {
  if (text === '') return <p className="p-3 text-faint">Nothing was printed.</p>;
  return (
    <>
      {cut > 0 && <p className="px-3 pt-2 text-xs text-lamp">{count(cut, 'byte')} in the middle were cut.</p>}
      {/* A long text scrolls, so it must be reachable by keyboard. */}
      <pre tabIndex={0} className="max-h-[32rem] overflow-auto p-3 font-mono text-xs leading-5 whitespace-pre-wrap">
        {visible(text)}
      </pre>
    </>
  );
}

function CheckLog({ bout, check }: { bout: string; check: CheckResult }) {
  const { data, error } = useQuery({ queryKey: ['check-log', bout, check.name, check.round, check.way], queryFn: () => service.checkLog(bout, check), enabled: check.has_log, staleTime: Infinity });
  if (!check.has_log) return <p className="p-3 text-faint">Nothing was printed.</p>;
  if (data === undefined) return <Notice error={error} what="the output" />;
  return <Output text={data} cut={check.log_cut} />;
}

function summary(c: CheckResult): string {
  const parts: string[] = [];
  if (c.summary) {
    parts.push(`${c.summary.passed} passed, ${c.summary.failed} failed, ${c.summary.skipped} skipped`);
  }
  if (c.detail) parts.push(c.detail);
  return parts.join(' · ');
}

const WAYS: Record<string, string> = { visible: "with the contender's files as they are", again: 'once more', 'own-tests': "with the start's own tests" };

/** Each check with its result; what it printed is one key away. */
export function Checks({ bout, checks }: { bout: string; checks: CheckResult[] }) {
  return (
    <Accordion.Root type="multiple">
      {checks.map((c) => (
        <Accordion.Item key={c.name + c.way} value={c.name + c.way} className="border-t border-line first:border-0">
          <Accordion.Header>
            <Accordion.Trigger className="group flex w-full cursor-pointer flex-wrap items-center gap-3 px-3 py-2 text-left" disabled={c.outcome === 'not-run'}>
              <span aria-hidden="true" className="w-3 transition-transform group-data-[state=open]:rotate-90">
                ▸
              </span>
              <span className="font-medium">{c.name}</span>
              {WAYS[c.way] && <span className="text-xs text-faint">{WAYS[c.way]}</span>}
              <Pill look={LOOKS[c.outcome] ?? 'waiting'}>{c.outcome}</Pill>
              <span className="text-xs text-faint">{summary(c)}</span>
              <span className="ml-auto text-xs text-faint tabular-nums">{c.elapsed_ms === null ? '' : duration(c.elapsed_ms)}</span>
            </Accordion.Trigger>
          </Accordion.Header>
          <Accordion.Content className="border-t border-line bg-paper">
            <p className="px-3 pt-2 font-mono text-xs whitespace-pre-wrap text-faint">$ {visible(c.run)}</p>
            <CheckLog bout={bout} check={c} />
          </Accordion.Content>
        </Accordion.Item>
      ))}
    </Accordion.Root>
  );
}
