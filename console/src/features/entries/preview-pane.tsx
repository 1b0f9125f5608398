import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { call, key, type EntryDetail, type IssuedPreviewLink } from "../../api";
import { useWho } from "../../lib/who";
import { Act, CopyButton, Loaded, Pick, When } from "../../ui";
import { pretty } from "../../lib/pretty";

const widths = { phone: 390, tablet: 820, desktop: 1280 } as const;
type Width = keyof typeof widths;

/** How long it is quiet before the frame is loaded again, in milliseconds. */
const quiet = 300;

/** The entry as the site shows it, beside its form; loaded again whenever it is saved. */
export function PreviewPane({ e, locale }: { e: EntryDetail; locale: string }) {
  const [width, setWidth] = useState<Width>("phone");
  const [site, setSite] = useState("");
  const [both, setBoth] = useState(false);
  const link = useQuery({
    queryKey: key("preview", e.id, locale),
    queryFn: () => call<IssuedPreviewLink>(`/entries/${e.id}/preview`, { method: "POST", body: { locale } }),
    // One link is enough, whatever is fetched again.
    enabled: (q) => q.state.data === undefined,
    retry: false,
  });
  const [shown, setShown] = useState(e.revision);
  useEffect(() => {
    const timer = setTimeout(() => setShown(e.revision), quiet);
    return () => clearTimeout(timer);
  }, [e.revision]);
  return (
    <Box data-preview={shown} mb="4">
      <Loaded query={link}>
        {(made) => {
          const at = made.addresses.find((a) => a.site === site) ?? made.addresses[0];
          if (!at) return <Raw e={e} token={made.token} locale={locale} revision={shown} />;
          return (
            <>
              <Flex gap="1.5" mb="2" wrap="wrap" align="center">
                {made.addresses.length > 1 && (
                  <Pick label="Site" value={at.site} onChange={setSite}>
                    {made.addresses.map((a) => (
                      <option key={a.site}>{a.site}</option>
                    ))}
                  </Pick>
                )}
                {(Object.keys(widths) as Width[]).map((name) => (
                  <Act key={name} aria-pressed={width === name} borderColor={width === name ? "accent" : "control"} color={width === name ? "accent" : "ink"} onClick={() => setWidth(name)}>
                    {name}
                  </Act>
                ))}
                {e.publishedRevision > 0 && (
                  <Act aria-pressed={both} borderColor={both ? "accent" : "control"} color={both ? "accent" : "ink"} onClick={() => setBoth(!both)}>
                    published beside
                  </Act>
                )}
                <Box flex="1" />
                <a href={at.address} target="_blank" rel="noreferrer">
                  Open in a new tab
                </a>
                <CopyButton text={at.address} label="the link for somebody without an account" />
              </Flex>
              <Flex gap="2" align="start">
                {both && <Frame title={`Published on ${at.site}`} address={at.public} width={widths[width]} load={shown} visitors />}
                <Frame title={`Preview on ${at.site}`} address={at.address} width={widths[width]} load={shown} />
              </Flex>
              <Text color="faint" fontSize="12px" mt="1">
                The link shows this entry alone, and what it shows, until <When at={made.expires} />; it can be ended under Preview links.
              </Text>
            </>
          );
        }}
      </Loaded>
    </Box>
  );
}

/**
 * A page of the site at a width of its own, made smaller to fit. It is loaded again when load changes. With visitors it is
 * as somebody gets it who has no cookie of the site, that of a preview neither, in browsers that can do so.
 */
function Frame({ title, address, width, load, visitors }: { title: string; address: string; width: number; load: number; visitors?: boolean }) {
  const place = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState(width);
  useEffect(() => {
    const box = place.current!;
    const fit = new ResizeObserver(() => setRoom(box.clientWidth));
    fit.observe(box);
    return () => fit.disconnect();
  }, []);
  const scale = Math.min(1, room / width);
  const height = 620;
  // A site at the console's own address must not be able to act as the console.
  const own = new URL(address, location.href).origin === location.origin;
  return (
    <Box ref={place} flex="1" minW="0" maxW={`${width}px`} h={`${height}px`} overflow="hidden" borderWidth="1px" borderColor="line" bg="white">
      <iframe
        key={load}
        title={title}
        src={address}
        sandbox={own ? "allow-scripts allow-forms" : "allow-scripts allow-forms allow-same-origin allow-popups"}
        referrerPolicy="no-referrer"
        {...(visitors && { credentialless: true })}
        style={{ width, height: height / scale, border: 0, transform: `scale(${scale})`, transformOrigin: "0 0" }}
      />
    </Box>
  );
}

/** Where no site has a preview: the entry as readers of the preview get it. */
function Raw({ e, token, locale, revision }: { e: EntryDetail; token: string; locale: string; revision: number }) {
  const who = useWho();
  const raw = useQuery({
    queryKey: key("preview", e.id, locale, revision),
    queryFn: async ({ signal }) => {
      const answer = await fetch(`/content/${who.environment}/preview/entries/${e.id}?locale=${encodeURIComponent(locale)}`, { signal, headers: { Authorization: "Bearer " + token } });
      return pretty(await answer.text());
    },
  });
  return (
    <>
      <Text color="faint" mb="2">
        No site shows it: it has no path, or no site has a preview address. This is what readers of the preview get.
      </Text>
      <Box as="pre" fontFamily="mono" fontSize="12px" bg="sheet" borderWidth="1px" borderColor="line" p="3" overflow="auto" maxH="620px" tabIndex={0} aria-label="The entry as readers of the preview get it">
        {raw.data}
      </Box>
    </>
  );
}
