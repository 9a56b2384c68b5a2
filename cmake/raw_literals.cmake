# SPDX-License-Identifier: Apache-2.0
# append_raw(VARIABLE PATH): the content of a file as raw string literals in pieces that every compiler accepts, behind the text in VARIABLE.
function(append_raw variable path)
  file(READ ${path} content)
  string(LENGTH "${content}" length)
  set(made "${${variable}}")
  set(at 0)
  while(at LESS length)
    string(SUBSTRING "${content}" ${at} 8000 piece)
    string(APPEND made "R\"TEXT(${piece})TEXT\"\n")
    math(EXPR at "${at} + 8000")
  endwhile()
  set(${variable} "${made}" PARENT_SCOPE)
endfunction()
