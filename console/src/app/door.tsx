import { Box, Flex, Heading, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";

/** The frame of signing in and of choosing a password. */
export function Door({ says, over = false, children }: { says: ReactNode; over?: boolean; children: ReactNode }) {
  return (
    <Flex minH="100vh" align="center" justify="center">
      <Box as={over ? "div" : "main"} w="400px" bg="sheet" borderWidth="1px" borderColor="line" p="8">
        <Flex align="center" gap="2" mb="1">
          <img src="/console/mark.svg" width="26" height="26" alt="" />
          <Heading as="h1" fontSize="20px">
            Ubiquon
          </Heading>
        </Flex>
        <Text color="faint" mb="6">
          {says}
        </Text>
        {children}
      </Box>
    </Flex>
  );
}
