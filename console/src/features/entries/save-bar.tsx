import { Flex, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";

/** What stays at the lower edge while something is not saved. */
export function SaveBar({ broken, children }: { broken: string[]; children: ReactNode }) {
  return (
    <Flex position="sticky" bottom="0" gap="3" align="center" wrap="wrap" bg="paper" borderTopWidth="1px" borderColor="control" py="2.5" mt="4" zIndex="2" role="region" aria-label="Saving">
      {broken.length > 0 && (
        <Text color="failure" role="alert" w="full">
          ✕ {broken.join(", ")}: what is typed there is no JSON, and would be lost. Mend it first.
        </Text>
      )}
      {children}
    </Flex>
  );
}
