#include "wkt_tree.h"

#include <cctype>

#include "../base/error.h"
#include "../base/portable.h"

namespace civic {
namespace {

bool is_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_'; }

class TextReader {
 public:
  explicit TextReader(std::string_view text) : text_(text) {}

  WktNode read() {
    WktNode root = read_node(0);
    skip_space();
    if (at_ < text_.size() && text_[at_] != '\0') fail("text after the end");
    return root;
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw CrsError("the text of the CRS cannot be read: " + what + " at character " + std::to_string(at_ + 1));
  }
  void skip_space() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
  }
  char peek() {
    skip_space();
    return at_ < text_.size() ? text_[at_] : '\0';
  }

  WktNode read_node(int depth) {
    if (depth > 40) fail("nested too deep");
    WktNode node;
    peek();
    node.position = at_ + 1;
    while (at_ < text_.size() && is_word(text_[at_])) {
      node.keyword += static_cast<char>(std::toupper(static_cast<unsigned char>(text_[at_])));
      ++at_;
    }
    if (node.keyword.empty()) fail("a keyword is missing");
    const char open = peek();
    if (open != '[' && open != '(') {
      if (depth == 0) fail("'[' is missing after " + node.keyword);
      return node;  // a bare word such as NORTH
    }
    do {
      ++at_;
      read_item(node, depth);
    } while (peek() == ',');
    if (peek() != (open == '[' ? ']' : ')')) fail("a bracket is not closed");
    ++at_;
    return node;
  }

  void read_item(WktNode& node, int depth) {
    const char c = peek();
    if (c == '"') return node.texts.push_back(read_quoted());
    if (c == '-' || c == '+' || c == '.' || (c >= '0' && c <= '9')) return node.numbers.push_back(read_number());
    node.children.push_back(read_node(depth + 1));
  }

  std::string read_quoted() {
    std::string value;
    for (++at_; at_ < text_.size(); ++at_) {
      if (text_[at_] != '"') {
        value += text_[at_];
      } else if (at_ + 1 < text_.size() && text_[at_ + 1] == '"') {
        value += text_[++at_];
      } else {
        ++at_;
        return value;
      }
    }
    fail("a quotation mark is not closed");
  }

  double read_number() {
    if (text_[at_] == '+') ++at_;
    double value = 0;
    const auto [end, problem] = read_double(text_.data() + at_, text_.data() + text_.size(), value);
    if (problem != std::errc()) fail("a number is malformed");
    at_ = end - text_.data();
    return value;
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

}  // namespace

const WktNode* WktNode::child(std::initializer_list<std::string_view> wanted) const {
  for (const WktNode& node : children)
    for (const std::string_view one : wanted)
      if (node.keyword == one) return &node;
  return nullptr;
}

const WktNode& WktNode::required(std::initializer_list<std::string_view> wanted) const {
  if (const WktNode* found = child(wanted)) return *found;
  throw CrsError("the text of the CRS lacks " + std::string(*wanted.begin()) + " inside " + keyword + " at character " +
                 std::to_string(position));
}

double WktNode::number() const {
  if (numbers.empty())
    throw CrsError("the text of the CRS lacks the value of " + keyword + " at character " + std::to_string(position));
  return numbers[0];
}

WktNode read_wkt_tree(std::string_view text) { return TextReader(text).read(); }

}  // namespace civic
