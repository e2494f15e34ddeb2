// The brackets of well-known text, read into a tree.
#pragma once
#include <initializer_list>
#include <string>
#include <string_view>
#include <vector>

namespace civic {

// One node of a well-known text: KEYWORD["text", 1.5, CHILD[…], word]
struct WktNode {
  std::string keyword;
  std::vector<std::string> texts;
  std::vector<double> numbers;
  std::vector<WktNode> children;
  std::size_t position = 0;

  // The first child with one of some keywords; null where there is none.
  const WktNode* child(std::initializer_list<std::string_view> wanted) const;
  const WktNode& required(std::initializer_list<std::string_view> wanted) const;
  std::string text() const { return texts.empty() ? "" : texts[0]; }
  double number() const;
};

// Throws CrsError with the position of what cannot be read.
WktNode read_wkt_tree(std::string_view text);

}  // namespace civic
