import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { service, type Bout, type Task } from '../../api/client';
import { Panel } from '../../components/Notice';

// The largest patch that is sent from here, in bytes.
const MOST = 32 << 20;

const base64 = (bytes: Uint8Array): string => {
  let text = '';
  for (let i = 0; i < bytes.length; i += 0x8000) text += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
  return btoa(text);
};

/** Takes a patch that was made elsewhere and has it judged like any other change. */
export function DropPatch({ task }: { task: Task }) {
  const queries = useQueryClient();
  const [file, setFile] = useState<File | null>(null);
  const [over, setOver] = useState(false);
  const [contender, setContender] = useState('');
  const [minutes, setMinutes] = useState('');
  const [wording, setWording] = useState(task.wordings[0]?.name ?? '');
  const took = minutes === '' ? undefined : Number(minutes) * 60_000;
  const named = /^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$/.test(contender);
  const ready = file !== null && file.size > 0 && file.size <= MOST && named && (took === undefined || took >= 0);
  const send = useMutation({
    mutationFn: async (): Promise<Bout> => {
      if (!file) throw new Error('There is no patch yet.');
      const patch = base64(new Uint8Array(await file.arrayBuffer()));
      return service.importBout({ contest: task.contest_id, task: task.task, contender, patch, patch_name: file.name, ...(wording ? { wording } : {}), ...(took === undefined ? {} : { took_ms: Math.round(took) }) });
    },
    onSuccess: () => {
      setFile(null);
      return queries.invalidateQueries({ queryKey: ['bouts-of', task.task] });
    },
  });
  const field = 'mt-0.5 block w-full rounded border border-line bg-paper px-2 py-1';
  return (
    <Panel title="Made elsewhere" aside="judged like any other">
      <form
        className="grid gap-3 p-3 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          if (ready) send.mutate();
        }}
      >
        <label
          onDragOver={(e) => {
            e.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={(e) => {
            e.preventDefault();
            setOver(false);
            setFile(e.dataTransfer.files[0] ?? null);
          }}
          className={`block cursor-pointer rounded border border-dashed p-4 text-center ${over ? 'border-water bg-water-soft' : 'border-line'}`}
        >
          {file ? `${file.name}, ${file.size.toLocaleString('en')} bytes` : 'Drop a patch here, as git diff prints it, or choose one'}
          <input type="file" className="sr-only" onChange={(e) => setFile(e.target.files?.[0] ?? null)} />
        </label>
        <div className="grid gap-3 sm:grid-cols-3">
          <label>
            Who made it <input className={field} value={contender} placeholder="a contender's name" onChange={(e) => setContender(e.target.value.trim())} />
          </label>
          <label>
            Minutes it took <input className={field} value={minutes} inputMode="decimal" placeholder="not known" onChange={(e) => setMinutes(e.target.value.trim())} />
          </label>
          {task.wordings.length > 1 && (
            <label>
              Wording
              <select className={field} value={wording} onChange={(e) => setWording(e.target.value)}>
                {task.wordings.map((w) => (
                  <option key={w.name}>{w.name}</option>
                ))}
              </select>
            </label>
          )}
        </div>
        <p className="flex items-center gap-3">
          <button type="submit" disabled={!ready || send.isPending} className="cursor-pointer rounded border border-water bg-water px-3 py-1 text-sheet disabled:cursor-default disabled:opacity-40">
            Have it judged
          </button>
          {file && file.size > MOST && <span className="text-bad">The patch is larger than 32 MiB; use: agonometer bout import</span>}
          {contender !== '' && !named && <span className="text-bad">A name has lower-case letters, digits and hyphens.</span>}
          {send.data && (
            <span role="status">
              Taken: <Link to={`/bouts/${send.data.id}`}>the bout of {send.data.contender}</Link>
            </span>
          )}
          {send.error && (
            <span role="alert" className="text-bad">
              {send.error.message}
            </span>
          )}
        </p>
      </form>
    </Panel>
  );
}
