/* Opens a hive with libhivex and counts its keys and values: the same work as the bare walk. */
#include <hivex.h>
#include <stdio.h>
#include <stdlib.h>

static unsigned long keys, values;

static void walk(hive_h *hive, hive_node_h node) {
  keys++;
  hive_value_h *found = hivex_node_values(hive, node);
  for (size_t i = 0; found && found[i]; i++) values++;
  free(found);
  hive_node_h *below = hivex_node_children(hive, node);
  for (size_t i = 0; below && below[i]; i++) walk(hive, below[i]);
  free(below);
}

int main(int argc, char **argv) {
  hive_h *hive = argc > 1 ? hivex_open(argv[1], 0) : NULL;
  if (!hive) return 1;
  walk(hive, hivex_root(hive));
  printf("%lu keys %lu values\n", keys, values);
  return hivex_close(hive);
}
