import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, got, type WeighRequest } from "./client";

/**
 * What a text costs and whether it may go, asked anew with every keystroke.
 * The last answer stays until the next is there, so that nothing flickers.
 */
export function useWeighing(request: WeighRequest) {
  return useQuery({
    queryKey: ["weigh", request],
    queryFn: ({ signal }) => got(api.POST("/v1/weigh", { body: request, signal })),
    placeholderData: keepPreviousData,
    refetchInterval: false,
    staleTime: 5_000,
    gcTime: 10_000,
  });
}

/** Where the byte offsets of a text are in JavaScript's counting. */
export function indices(text: string, offsets: number[]): number[] {
  const found = new Map<number, number>();
  let bytes = 0;
  let index = 0;
  const wanted = new Set(offsets);
  for (const c of text) {
    if (wanted.has(bytes)) found.set(bytes, index);
    const point = c.codePointAt(0)!;
    bytes += point < 0x80 ? 1 : point < 0x800 ? 2 : point < 0x10000 ? 3 : 4;
    index += c.length;
  }
  found.set(bytes, index);
  return offsets.map((o) => found.get(o) ?? text.length);
}
