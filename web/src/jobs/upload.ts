import { api, asked, type Shot } from "../api/client";
import { connection } from "../lib/connection.svelte";

const CHUNK = 8 << 20;

/** Send files to a job in chunks and have them added as shots. `report` hears the share sent, 0-1. */
export async function upload(
  jobId: number,
  files: File[],
  report: (share: number) => void,
): Promise<{ shots: Shot[]; refused: string[] }> {
  const path = { job_id: jobId };
  const { token } = await asked(api.POST("/api/jobs/{job_id}/uploads", { params: { path } }));
  const total = files.reduce((sum, file) => sum + file.size, 0) || 1;
  let sent = 0;
  for (const file of files) {
    let offset = 0;
    do {
      const piece = file.slice(offset, offset + CHUNK);
      await sendChunk(
        `/api/jobs/${jobId}/uploads/${token}/files/${encodeURIComponent(file.name)}?offset=${offset}`,
        piece,
      );
      offset += piece.size;
      sent += piece.size;
      report(sent / total);
    } while (offset < file.size);
  }
  return asked(
    api.POST("/api/jobs/{job_id}/uploads/{token}/complete", { params: { path: { ...path, token } } }),
  );
}

/** One chunk, tried again after a broken connection; the server ignores what it already has. */
async function sendChunk(address: string, piece: Blob): Promise<void> {
  for (let attempt = 0; ; attempt++) {
    try {
      const answer = await connection.fetch(address, { method: "PUT", body: piece });
      if (!answer.ok) throw new Error(((await answer.json()) as { detail: string }).detail);
      return;
    } catch (error) {
      if (attempt >= 3 || !(error instanceof TypeError)) throw error;
      await new Promise((resume) => setTimeout(resume, 500 * 2 ** attempt));
    }
  }
}

/** All files of a drop, folders opened. */
export async function droppedFiles(items: DataTransferItemList): Promise<File[]> {
  const entries = [...items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  return (await Promise.all(entries.map(filesOf))).flat();
}

async function filesOf(entry: FileSystemEntry): Promise<File[]> {
  if (entry.isFile)
    return [await new Promise<File>((take, fail) => (entry as FileSystemFileEntry).file(take, fail))];
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const files: File[] = [];
  for (;;) {
    const batch = await new Promise<FileSystemEntry[]>((take, fail) => reader.readEntries(take, fail));
    if (!batch.length) return files;
    for (const inner of batch) files.push(...(await filesOf(inner)));
  }
}
