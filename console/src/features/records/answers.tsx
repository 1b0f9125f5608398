import { Box, Text } from "@chakra-ui/react";
import type { CallAnswer } from "../../api";

/** What somebody answered who was called as a test. */
export function Answers({ of }: { of: CallAnswer[] }) {
  return (
    <Box my="2" role="status" data-answers>
      {of.map((a) => (
        <Text key={a.address} color={a.error ? "failure" : "good"}>
          {a.error ? "✕" : "●"} {a.address}: {a.error || `answered ${a.status} in ${Math.round(a.tookMs)} ms: ${a.text}`}
        </Text>
      ))}
    </Box>
  );
}
