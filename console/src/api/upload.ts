import { Refusal, type Problem, type RecipientsSaved } from "./client";

/**
 * Hands a list over as it is, and tells how much of it has gone. fetch cannot tell, and a
 * million rows take a moment.
 */
export async function uploadRows(batch: string, file: File, progress: (share: number) => void): Promise<void> {
  const address = `/v1/batches/${batch}/rows?at=0&file=${encodeURIComponent(file.name)}`;
  await upload(address, file, progress, "What came is kept, in a batch that is open.");
}

/** What is made of a file is called as the file is, without its ending. */
export const called = (file: File) => file.name.replace(/\.[^.]+$/, "").slice(0, 100);

/** Puts the rows of a sheet on a list that is kept. */
export async function uploadRecipients(
  list: string, file: File, country: string, progress: (share: number) => void,
): Promise<RecipientsSaved> {
  const address = `/v1/recipient-lists/${encodeURIComponent(list)}/recipients?country=${encodeURIComponent(country)}`;
  return JSON.parse(await upload(address, file, progress, "What came is kept; the same sheet may be saved again.")) as RecipientsSaved;
}

/** Puts rows back that were left out and have been corrected. */
export async function uploadCorrections(batch: string, file: File): Promise<void> {
  await upload(`/v1/batches/${batch}/corrections`, file, () => undefined, "Nothing was changed.");
}

function upload(address: string, file: File, progress: (share: number) => void, brokeOff: string): Promise<string> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", address);
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1));
    request.onload = () => {
      if (request.status < 300) return resolve(request.responseText);
      let said: Problem = { type: "", title: `The service answered ${request.status}`, status: request.status };
      try {
        said = JSON.parse(request.responseText) as Problem;
      } catch {
        // it is no problem of ours
      }
      reject(new Refusal(said));
    };
    request.onerror = () => reject(new Refusal({ type: "", title: "The upload broke off", status: 0, detail: brokeOff }));
    request.send(file);
  });
}
