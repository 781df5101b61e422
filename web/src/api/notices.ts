import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, unwrap } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Notice = Schemas["NoticeState"];
export type NoticeSaid = Schemas["NoticeSaid"];
export type NoticeTrigger = Schemas["NoticeTrigger"];
export type NoticeKind = NoticeTrigger["kind"];
export type NoticeList = Schemas["NoticeList"];
export type NoticeFact = Schemas["NoticeFact"];
export type NoticeWritten = Schemas["NoticeWritten"];
export type NoticeVisit = Schemas["NoticeVisit"];
export type Channel = Schemas["ChannelState"];
export type ChannelSaid = Schemas["ChannelSaid"];
export type Message = Schemas["Message"];
export type MessageList = Schemas["MessageList"];

/** refreshed is how often how notices stand is asked for again, in milliseconds. */
const refreshed = 15_000;
/** soon is the same while something waits to be sent. */
const soon = 2000;

/** useNotices lists the notices of a site; "" asks nothing. */
export function useNotices(site: string) {
  return useQuery({
    queryKey: ["notices", site],
    enabled: site !== "",
    refetchInterval: refreshed,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/notices", { params: { query: { site } }, signal })),
  });
}

/** useMessages lists what was sent, the newest first; notice "" for all. */
export function useMessages(site: string, notice: string, limit: number) {
  return useQuery({
    queryKey: ["messages", site, notice, limit],
    enabled: site !== "",
    placeholderData: keepPreviousData,
    refetchInterval: (q: { state: { data: MessageList | undefined } }) =>
      q.state.data?.messages.some((m) => m.state === "waiting" && m.attempts === 0) ? soon : refreshed,
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/v1/messages", {
          params: { query: { site, limit, ...(notice ? { notice } : {}) } },
          signal,
        }),
      ),
  });
}

/** useMessage gives what a message says, and every attempt; "" asks nothing. */
export function useMessage(site: string, id: string) {
  return useQuery({
    queryKey: ["message", site, id],
    enabled: id !== "",
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/messages/{id}", { params: { path: { id }, query: { site } }, signal })),
  });
}

/** usePreview says what a notice would say, as it is now. */
export function usePreview(site: string, said: NoticeSaid, visits: string[]) {
  return useQuery({
    queryKey: ["notice-preview", site, said, visits],
    enabled: said.title.trim() !== "" && said.subject.trim() !== "" && said.text.trim() !== "",
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) =>
      unwrap(
        api.POST("/v1/notices/preview", {
          params: { query: { site } },
          body: { said, ...(visits.length > 0 ? { visits } : {}) },
          signal,
        }),
      ),
  });
}
