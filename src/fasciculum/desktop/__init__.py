"""What a desktop shows of the program: menu entry, icon, file type, metainfo."""
