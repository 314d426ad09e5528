// Fetching pictures with what the Easel says about them: bytes, type, time and the cache's answer.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { patiently, type Facts } from "../api/client";
import { accept } from "./language";

export interface Picture {
  address: string;
  blob: Blob;
  width: number;
  height: number;
  bytes: number;
  type: string;
  ms: number;
  cache: string;
}

async function load(address: string, signal: AbortSignal): Promise<Picture> {
  const start = performance.now();
  const answer = await patiently(address, { signal, cache: "no-store", headers: { Accept: accept } });
  const blob = await answer.blob();
  const ms = performance.now() - start;
  const bitmap = await createImageBitmap(blob);
  const { width, height } = bitmap;
  bitmap.close();
  const cache = (answer.headers.get("Cache-Status") ?? "").replace(/^[^;]*; */, "");
  return { address, blob, width, height, bytes: blob.size, type: blob.type, ms, cache };
}

export function usePicture(address: string | undefined) {
  return useQuery({
    queryKey: ["picture", address],
    queryFn: ({ signal }) => load(address!, signal),
    enabled: address !== undefined,
    staleTime: 60_000,
    gcTime: 60_000,
    placeholderData: keepPreviousData,
  });
}

// useFound is what is found in the picture at an image's address: as=facts says it.
export function useFound(address: string) {
  return useQuery({
    queryKey: ["found", address],
    queryFn: async ({ signal }) => (await (await patiently(`${address}?as=facts`, { signal, cache: "no-store" })).json()) as Facts,
    staleTime: 60_000,
  });
}

// useBlobAddress gives a blob an address for as long as it is shown.
export function useBlobAddress(blob: Blob | undefined): string | undefined {
  const [address, set] = useState<string>();
  useEffect(() => {
    if (!blob) return set(undefined);
    const a = URL.createObjectURL(blob);
    set(a);
    return () => URL.revokeObjectURL(a);
  }, [blob]);
  return address;
}

// useSettled follows value once it has stood still, so that dragging doesn't ask for every pixel.
export function useSettled<T>(value: T, ms: number): T {
  const [settled, set] = useState(value);
  useEffect(() => {
    const t = setTimeout(() => set(value), ms);
    return () => clearTimeout(t);
  }, [value, ms]);
  return settled;
}
